"""Inside, around and out: tabs, loops, deep links and drop-offs; and any figure by a property."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query

from mossy_trail.engine import celled, dropoffs, links, loops, tabs
from mossy_trail.web.context import TheScope, TheStudy, TheTwo
from mossy_trail.web.problems import ProblemError

router = APIRouter(prefix="/api/apps/{app}", tags=["inside"])


@router.get("/tabs")
def read_tabs(study: TheStudy, scope: TheScope) -> tabs.TabFigures:
    """How each tab is used, and the ways between them."""
    return tabs.measure(study, scope)


@router.get("/loops")
def read_loops(study: TheStudy, scope: TheScope) -> loops.LoopFigures:
    """Loops by kind, ways back, and screens that people do not get out of."""
    return loops.measure(study, scope)


@router.get("/links")
def read_links(study: TheStudy, scope: TheScope) -> links.LinkFigures:
    """Each pattern of links from opened to landed to stayed."""
    return links.measure(study, scope)


@router.get("/drop-offs")
def read_drop_offs(
    study: TheStudy,
    scope: TheScope,
    goal: Annotated[str, Query(max_length=2000, description="A screen to be reached")] = "",
) -> dropoffs.DropOffFigures:
    """Where journeys end, found against expected, and what each screen costs the goal."""
    try:
        return dropoffs.measure(study, scope, goal)
    except KeyError:
        raise ProblemError(404, "There is no such screen to be reached.") from None


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
