"""Inside, around and out: tabs, loops, deep links and drop-offs; and any figure by a property."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query

from mossy_trail.engine import celled, dropoffs, journeys, links, loops, tabs
from mossy_trail.web.context import TheScope, TheStudy, TheTwo
from mossy_trail.web.problems import ProblemError

router = APIRouter(prefix="/api/apps/{app}", tags=["inside"])


TheGoal = Annotated[str, Query(max_length=2000, description="A screen to be reached")]
_NO_GOAL = "There is no such screen to be reached."


@router.get("/tabs")
def read_tabs(study: TheStudy, scope: TheScope) -> tabs.TabFigures:
    """How each tab is used, and the ways between them."""
    return tabs.measure(study, scope)


@router.get("/loops")
def read_loops(study: TheStudy, scope: TheScope) -> loops.LoopFigures:
    """Loops by kind, ways back, and screens that people do not get out of."""
    return loops.measure(study, scope)


@router.get("/journey/loops")
def read_loops_of_journey(key: str, study: TheStudy) -> list[loops.Round]:
    """The loops of one journey, with their steps."""
    try:
        return loops.of_journey(study, journeys.by_key(study, key))
    except KeyError:
        raise ProblemError(404, "There is no such journey.") from None


@router.get("/links")
def read_links(study: TheStudy, scope: TheScope, goal: TheGoal = "") -> links.LinkFigures:
    """Links from opened to landed to stayed, by pattern, source and start."""
    try:
        return links.measure(study, scope, goal)
    except KeyError:
        raise ProblemError(404, _NO_GOAL) from None


@router.get("/drop-offs")
def read_drop_offs(
    study: TheStudy,
    scope: TheScope,
    goal: TheGoal = "",
) -> dropoffs.DropOffFigures:
    """Where journeys end, found against expected, and what each screen costs the goal."""
    try:
        return dropoffs.measure(study, scope, goal)
    except KeyError:
        raise ProblemError(404, _NO_GOAL) from None


@router.get("/breakdown")
def read_breakdown(
    study: TheStudy,
    scope: TheScope,
    two: TheTwo,
    measure: str,
    figure: str,
    by: Annotated[str, Query(min_length=1, max_length=300)],
) -> celled.Breakdown:
    """The journeys behind any figure, for each value of a property."""
    try:
        return celled.breakdown(study, scope, measure, figure, by, two)
    except KeyError:
        raise ProblemError(404, "There is no such figure or group.") from None
