"""The scope of a question: which journeys it is asked of."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.model.log import plausible

Unit = Literal["sessions", "users"]


@dataclass(frozen=True)
class Part:
    """One group of the journeys in scope: a value of the property `by`, or a stretch of time.

    `over` is “day” or “week”; `value` then is its first day. Where users are counted, one is of
    the value of their first journey in scope, so that groups add up to the whole.
    """

    value: str
    by: str = ""
    over: str = ""


@dataclass(frozen=True)
class Scope:
    """Journeys that start within [since, before), in microseconds since 1970; None: no limit.

    Those whose clock cannot be right stand on no day that means anything: they are in no scope but
    the one of `odd_clocks`, which has them alone. `segment` is the JSON of one, empty for all.
    With a `part`, only those of one group of all these.
    """

    since: int | None = None
    before: int | None = None
    unit: Unit = "sessions"
    segment: str = ""
    odd_clocks: bool = False
    part: Part | None = None

    def dated(self, start: NDArray[np.int64], read_at: int) -> NDArray[np.bool_]:
        """Which journeys are within the dates, by when they start, of rows that came in at
        `read_at`; both in microseconds since 1970, of shape (journeys,)."""
        right = plausible(start, read_at)
        if self.odd_clocks:
            return ~right
        inside = right
        if self.since is not None:
            inside &= start >= self.since
        if self.before is not None:
            inside &= start < self.before
        return inside
