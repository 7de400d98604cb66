"""The start-up view."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query

from mossy_trail.engine import startup
from mossy_trail.web.context import By, TheScope, TheStudy, TheTwo
from mossy_trail.web.problems import known_groups

router = APIRouter(prefix="/api/apps/{app}/start-up", tags=["start-up"])


@router.get("")
def read_start_up(
    study: TheStudy,
    scope: TheScope,
    two: TheTwo,
    slow: Annotated[int, Query(ge=1, le=600_000, description="Milliseconds")] = startup.SLOW,
    by: By = "",
) -> startup.StartFigures:
    """Starts by kind, how long they take, where they land, and who left before."""
    with known_groups():
        return startup.measure(study, scope, slow, by, two)
