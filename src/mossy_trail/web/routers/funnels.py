"""Funnels: the map's own, what stages can be made of, and where a journey meets them."""

from __future__ import annotations

from fastapi import APIRouter

from mossy_trail.engine import funnel, journeys, loops
from mossy_trail.engine.funnel_spec import FunnelSpec
from mossy_trail.engine.registry import document_of
from mossy_trail.engine.vocabulary import vocabulary
from mossy_trail.web.context import TheStudy
from mossy_trail.web.problems import ProblemError
from mossy_trail.web.schemas import MatchedStep, Vocabulary

router = APIRouter(prefix="/api/apps/{app}", tags=["funnels"])


@router.get("/onboarding")
def read_onboarding(study: TheStudy) -> FunnelSpec | None:
    """The funnel of the map's onboarding chain; none where the map has no such chain."""
    document = funnel.onboarding(study.app_map)
    return FunnelSpec(**document) if document else None


@router.get("/vocabulary")
def read_vocabulary(study: TheStudy) -> Vocabulary:
    """What conditions can be made of."""
    return Vocabulary(**vocabulary(study))


@router.get("/journey/matched")
def read_matched(key: str, figure: str, study: TheStudy) -> list[MatchedStep]:
    """Which steps of a journey meet the stages of a funnel."""
    try:
        asked = funnel.asked_of(document_of(figure))
        ref = journeys.by_key(study, key)
    except (ValueError, KeyError):
        raise ProblemError(404, "There is no such journey, or no such funnel.") from None
    found = funnel.matched_steps(study, asked, ref.part, ref.number)
    return [MatchedStep(stage=stage, step=step) for stage, step in found]


@router.get("/journey/loops")
def read_loops_of_journey(key: str, study: TheStudy) -> list[loops.Round]:
    """The loops of one journey, with their steps."""
    try:
        return loops.of_journey(study, journeys.by_key(study, key))
    except KeyError:
        raise ProblemError(404, "There is no such journey.") from None
