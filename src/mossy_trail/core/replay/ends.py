"""What the end of a whole log tells of journeys: which it cut off, and which were dead ends."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.model.log import Log, plausible
from mossy_trail.core.model.properties import Property
from mossy_trail.core.model.steps import Steps
from mossy_trail.core.replay.journeys import mark_cut
from mossy_trail.core.replay.marks import mark_dead_ends, ways
from mossy_trail.core.replay.replay import Settings


class Ends(NamedTuple):
    """What one part tells of ends, or all together: the last moment, in microseconds, by a clock
    that can be right in rows read at a moment, and how often each screen was visited and gone on
    from (see `marks.ways`)."""

    read_at: int
    last: int
    ways: NDArray[np.int64]

    @classmethod
    def of(cls, log: Log, steps: Steps, read_at: int, platform: Property) -> Ends:
        """Of a part's rows and their replay."""
        times = log.columns["time"]
        last = int(times[plausible(times, read_at)].max(initial=0))
        return cls(read_at, last, ways(steps, platform))

    @classmethod
    def together(cls, parts: Sequence[Ends]) -> Ends | None:
        """Of all parts of a log; None if there are none."""
        if not parts:
            return None
        ways = np.asarray(sum(own.ways for own in parts))
        return cls(parts[0].read_at, max(own.last for own in parts), ways)

    def mark(self, steps: Steps, platform: Property) -> None:
        """Mark a part's journeys by what all parts tell together; once more changes nothing."""
        mark_cut(steps, self.last, Settings().idle)
        mark_dead_ends(steps, platform, self.ways)
