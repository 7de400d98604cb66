"""All measures by name: each registers itself in a module of its own.

Whoever registers one has its figures, the journeys behind each, the figures of every group and
over time, the differences of two groups, its route in the API and its command (see `measures`).
"""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, TypeVar, get_type_hints

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field

from mossy_trail.core.model.scope import Scope
from mossy_trail.engine.study import Study


class NoParams(BaseModel):
    """The parameters of a measure that has none of its own."""

    model_config = ConfigDict(frozen=True)


class GoalParams(NoParams):
    goal: str = Field("", max_length=2000, description="A screen to be reached")


@dataclass(frozen=True)
class Measure:
    """A question about the journeys in scope.

    `ask` is called with a study, a scope and the parameters by their names, and answers with an
    object of the dataclass `figures`. It raises `KeyError` for a parameter that cannot be used.
    """

    name: str
    says: str
    figures: type
    ask: Callable[..., Any]
    params: type[NoParams]

    def params_of(self, known: Mapping[str, object]) -> NoParams:
        """Its own of these, which may be those of other measures too."""
        own = {name: value for name, value in known.items() if name in self.params.model_fields}
        return self.params(**own)


Evidence = Callable[[Study, Scope, str], NDArray[np.bool_]]
Ask = TypeVar("Ask", bound=Callable[..., Any])
MEASURES: dict[str, Measure] = {}
EVIDENCE: dict[str, Evidence] = {}


def measure_of(name: str, params: type[NoParams] = NoParams) -> Callable[[Ask], Ask]:
    """Register a function that answers with the figures of a measure; its docstring says what
    they are of."""

    def register(ask: Ask) -> Ask:
        says = (ask.__doc__ or name).partition("\n")[0]
        MEASURES[name] = Measure(name, says, get_type_hints(ask)["return"], ask, params)
        return ask

    return register


def evidence_of(measure: str) -> Callable[[Evidence], Evidence]:
    """Register a function that tells the journeys behind a figure of this measure.

    It returns a mask over the study's index, and raises `KeyError` for a figure that there is not.
    """

    def register(evidence: Evidence) -> Evidence:
        EVIDENCE[measure] = evidence
        return evidence

    return register


def words_of(figure: str) -> list[str]:
    """The words by which a figure is named: a JSON array. Raises `KeyError` where it is none."""
    asked = _json(figure)
    if not isinstance(asked, list) or not all(isinstance(word, str) for word in asked):
        raise KeyError(figure)
    return asked


def document_of(figure: str) -> dict[str, Any]:
    """The document that names a figure: a JSON object. Raises `KeyError` where it is none."""
    asked = _json(figure)
    if not isinstance(asked, dict):
        raise KeyError(figure)
    return asked


def _json(figure: str) -> Any:
    try:
        return json.loads(figure)
    except (ValueError, RecursionError):
        raise KeyError(figure) from None
