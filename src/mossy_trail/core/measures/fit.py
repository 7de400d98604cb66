"""How well the replay fits a log: whether moves that rows tell landed where it said they would."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.model.app_map import AppMap
from mossy_trail.core.model.log import NONE, Log
from mossy_trail.core.model.steps import MARK, MOVE, TAB, Steps
from mossy_trail.core.replay.replay import first_reading

UNTOLD, LANDED, ELSEWHERE = -1, 0, 1
"""Of a step: no row tells enough to be held to it, it landed as predicted, or it did not."""
_TO_WHAT_IS_THERE = [
    MOVE[word] for word in ("pop", "pop_to", "close_modal", "switch_tab", "forward")
]
_MISFIT = MARK["landed_elsewhere"] | MARK["tab_mismatch"]


def label(steps: Steps) -> NDArray[np.int8]:
    """Each step as untold, landed or elsewhere; shape (steps,).

    A move to what stands on a stack already says which screen it shows, before its row is looked
    at. Of any other move the tab is predicted, and told where the row reports one.
    """
    own = steps.steps
    reports = (own.tab_reported != NONE) & (steps.entries.region[own.entry] == TAB)
    told = ~own.inferred & (own.move != MOVE["start"])
    told &= np.isin(own.move, _TO_WHAT_IS_THERE) | reports
    found = np.where((own.marks & _MISFIT) != 0, ELSEWHERE, LANDED)
    return np.where(told, found, UNTOLD).astype("int8")


def trial(parts: Sequence[Log], app_map: AppMap) -> tuple[int, int]:
    """How many moves of these parts land as predicted under a map, and how many are told."""
    labels = [label(first_reading(part, app_map)) for part in parts]
    landed = sum(int(np.count_nonzero(one == LANDED)) for one in labels)
    return landed, sum(int(np.count_nonzero(one != UNTOLD)) for one in labels)
