"""Funnels: ready-made and of one's own."""

from __future__ import annotations

import json
from typing import Annotated

from fastapi import APIRouter, Query
from pydantic import ValidationError

from mossy_trail.engine import funnel, journeys, onboarding
from mossy_trail.engine.vocabulary import vocabulary
from mossy_trail.web.context import By, TheScope, TheStudy, TheTwo
from mossy_trail.web.problems import ProblemError, known_groups
from mossy_trail.web.schemas import FunnelSpec, MatchedStep, Vocabulary

router = APIRouter(prefix="/api/apps/{app}", tags=["funnels"])


@router.get("/funnel")
def read_funnel(
    spec: Annotated[str, Query(description="A FunnelSpec, as JSON")],
    study: TheStudy,
    scope: TheScope,
    two: TheTwo,
    by: By = "",
) -> funnel.FunnelFigures:
    """How many get from stage to stage, how long it takes, and where the others went."""
    asked = _asked(spec)
    with known_groups():
        return funnel.measure(study, scope, asked, by, two)


@router.get("/onboarding")
def read_onboarding(study: TheStudy) -> FunnelSpec | None:
    """The funnel of the map's onboarding chain; none where the map has no such chain."""
    document = funnel.onboarding(study.app_map)
    return FunnelSpec(**document) if document else None


@router.get("/onboarding/screens")
def read_onboarding_screens(study: TheStudy, scope: TheScope) -> onboarding.OnboardingFigures:
    """What became of those who began onboarding, and its screens one by one."""
    return onboarding.measure(study, scope)


@router.get("/vocabulary")
def read_vocabulary(study: TheStudy) -> Vocabulary:
    """What conditions can be made of."""
    return Vocabulary(**vocabulary(study))


@router.get("/journey/matched")
def read_matched(key: str, figure: str, study: TheStudy) -> list[MatchedStep]:
    """Which steps of a journey meet the stages of a funnel."""
    try:
        asked = funnel.Asked.of(json.loads(figure)["funnel"])
        ref = journeys.by_key(study, key)
    except (ValueError, TypeError, KeyError, AttributeError):
        raise ProblemError(404, "There is no such journey, or no such funnel.") from None
    found = funnel.matched_steps(study, asked, ref.part, ref.number)
    return [MatchedStep(stage=stage, step=step) for stage, step in found]


def _asked(spec: str) -> funnel.Asked:
    try:
        return funnel.Asked.of(FunnelSpec.model_validate_json(spec).model_dump())
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(map(str, first["loc"])) or "the funnel"
        raise ProblemError(422, f"{where}: {first['msg']}", "See docs/funnels.md.") from None
