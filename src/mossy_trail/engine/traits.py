"""What the figures are made of, journey by journey: for lists to be sorted and narrowed by."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.measures import loops, startup
from mossy_trail.core.model.conditions import failed_tries
from mossy_trail.core.model.log import NONE
from mossy_trail.core.model.steps import Steps
from mossy_trail.engine.study import Study

Trait = NDArray[np.int64]


def trait(study: Study, name: str) -> Trait:
    """A number of each journey of the index, -1 where the log does not tell; shape (journeys,).

    `start`: how long its slowest start took, in ms; `turns`: of the loop with most; `tries`: to
    sign in or up that failed; `stay`: the longest on one screen, in ms. Kept with the study.
    """
    key = f"trait {name}"
    if key not in study.known:
        of_part = _TRAITS[name]
        study.known[key] = np.concatenate([np.empty(0, "i8"), *study.each(of_part)])
    found: Trait = study.known[key]
    return found


def _most(steps: Steps, journey: NDArray[np.integer], value: NDArray[np.integer]) -> Trait:
    found = np.full(len(steps.journeys.start), NONE, "i8")
    np.maximum.at(found, journey, value)
    return found


def _everywhere(steps: Steps) -> NDArray[np.bool_]:
    return np.ones(len(steps.journeys.start), bool)


def _start(steps: Steps) -> Trait:
    starts = startup.label(steps, _everywhere(steps))
    landed = (starts.landing != startup.LANDINGS.index("left")) & (
        starts.kind != startup.KINDS.index("recreated")
    )
    return _most(steps, starts.journey[landed], starts.took[landed] // 1000)


def _turns(steps: Steps) -> Trait:
    found = loops.loops(steps, _everywhere(steps))
    return np.maximum(_most(steps, found.journey, found.turns), 0)


def _tries(steps: Steps) -> Trait:
    size = len(steps.journeys.start)
    return np.bincount(steps.steps.journey, failed_tries(steps), size).astype("i8")


def _stay(steps: Steps) -> Trait:
    known = np.flatnonzero(steps.dwell >= 0)
    return _most(steps, steps.steps.journey[known], steps.dwell[known] // 1000)


_TRAITS: dict[str, Callable[[Steps], Trait]] = {
    "start": _start,
    "turns": _turns,
    "tries": _tries,
    "stay": _stay,
}
