"""Which journeys a figure counts: each measure says it of its own."""

from __future__ import annotations

import json
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.scope import Scope
from mossy_trail.engine.study import Study

Evidence = Callable[[Study, Scope, str], NDArray[np.bool_]]
EVIDENCE: dict[str, Evidence] = {}


def words_of(figure: str) -> list[str]:
    """The words by which a figure is named: a JSON array. Raises `KeyError` where it is none."""
    try:
        asked = json.loads(figure)
    except (ValueError, RecursionError):
        raise KeyError(figure) from None
    if not isinstance(asked, list) or not all(isinstance(word, str) for word in asked):
        raise KeyError(figure)
    return asked


def evidence_of(measure: str) -> Callable[[Evidence], Evidence]:
    """Register a function that tells the journeys behind a figure of this measure.

    It returns a mask over the study's index, and raises `KeyError` for a figure that there is not.
    """

    def register(evidence: Evidence) -> Evidence:
        EVIDENCE[measure] = evidence
        return evidence

    return register
