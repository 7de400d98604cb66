"""A question asked within a scope."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.scope import Scope
from mossy_trail.core.steps import Steps
from mossy_trail.engine import segments
from mossy_trail.engine.study import Study

Answer = TypeVar("Answer")


def scope_mask(study: Study, scope: Scope) -> NDArray[np.bool_]:
    """Which journeys of the index are in scope."""
    dated = study.joined(lambda steps: scope.dated(steps.journeys, study.read_at))
    return dated & segments.of(study, scope.segment) if scope.segment else dated


def each_inside(
    study: Study, scope: Scope, ask: Callable[[Steps, NDArray[np.bool_]], Answer]
) -> list[Answer]:
    """The answer of every part, in order; it is asked with the mask of its journeys in scope."""
    if not scope.segment:
        return study.each(lambda steps: ask(steps, scope.dated(steps.journeys, study.read_at)))
    whole, edges = scope_mask(study, scope), study.edges
    number = {id(steps): i for i, steps in enumerate(study.parts)}

    def ask_part(steps: Steps) -> Answer:
        i = number[id(steps)]
        return ask(steps, whole[edges[i] : edges[i + 1]])

    return study.each(ask_part)


def joined_inside(
    study: Study, scope: Scope, ask: Callable[[Steps, NDArray[np.bool_]], NDArray[np.bool_]]
) -> NDArray[np.bool_]:
    """A mask over the index from a mask of each part's journeys."""
    return np.concatenate([np.empty(0, bool), *each_inside(study, scope, ask)])
