"""The scope of a question: which journeys it is asked of."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.steps import JourneyColumns

Unit = Literal["sessions", "users"]


@dataclass(frozen=True)
class Scope:
    """Journeys that start within [since, before), in microseconds since 1970; None: no limit.

    `segment` is the JSON of one, empty for all.
    """

    since: int | None = None
    before: int | None = None
    unit: Unit = "sessions"
    segment: str = ""

    def dated(self, journeys: JourneyColumns) -> NDArray[np.bool_]:
        """Which journeys are within the dates; shape (journeys,)."""
        inside = np.ones(len(journeys.start), bool)
        if self.since is not None:
            inside &= journeys.start >= self.since
        if self.before is not None:
            inside &= journeys.start < self.before
        return inside
