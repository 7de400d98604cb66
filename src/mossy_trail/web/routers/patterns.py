"""Patterns: reading one as it is written, and where it fits in one journey."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query
from pydantic import BaseModel

from mossy_trail.core.measures.patterns import KEYS
from mossy_trail.core.model.pattern import PatternError
from mossy_trail.engine import journeys, patterns
from mossy_trail.engine.registry import document_of
from mossy_trail.intake.pattern_text import LONGEST, WORDS
from mossy_trail.web.context import TheStudy
from mossy_trail.web.problems import ProblemError

router = APIRouter(prefix="/api/apps/{app}", tags=["patterns"])


class PatternFault(BaseModel):
    """What is wrong with a pattern from one letter of its text up to another, and the mend."""

    message: str
    start: int
    end: int
    mend: str


class PatternReading(BaseModel):
    """What a pattern means, or what is wrong with it; and the keys that tests are of, each with its
    words where these are ours."""

    words: str
    fault: PatternFault | None
    keys: dict[str, list[str]]


@router.get("/patterns/read")
def read_pattern(
    study: TheStudy, pattern: Annotated[str, Query(max_length=LONGEST + 1)] = ""
) -> PatternReading:
    """What a pattern means, in plain words."""
    keys = {key: list(WORDS.get(key, ())) for key in KEYS}
    try:
        return PatternReading(words=patterns.words_of(study, pattern), fault=None, keys=keys)
    except PatternError as error:
        fault = PatternFault(
            message=error.message, start=error.start, end=error.end, mend=error.mend
        )
        return PatternReading(words="", fault=fault, keys=keys)


@router.get("/journey/matches")
def read_matches_of_journey(key: str, figure: str, study: TheStudy) -> list[patterns.Span]:
    """Where the pattern of a figure fits in one journey."""
    try:
        pattern = str(document_of(figure)["pattern"])
        return patterns.of_journey(study, journeys.by_key(study, key), pattern)
    except (KeyError, PatternError):
        raise ProblemError(404, "There is no such journey, or no such pattern.") from None
