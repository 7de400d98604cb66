"""What the end of a whole log tells of journeys: which it cut off, and which were dead ends."""

from __future__ import annotations

from collections.abc import Sequence
from functools import reduce
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.model.log import Log, plausible
from mossy_trail.core.model.properties import Property
from mossy_trail.core.model.steps import Steps
from mossy_trail.core.replay.journeys import exits_at
from mossy_trail.core.replay.marks import dead_ends, mark_dead_ends, ways
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
        return cls(read_at, last_moment(log, read_at), ways(steps, platform))

    @classmethod
    def together(cls, parts: Sequence[Ends]) -> Ends | None:
        """Of all parts of a log; None if there are none."""
        return reduce(cls.with_those, parts) if parts else None

    def with_those(self, other: Ends) -> Ends:
        return self._replace(last=max(self.last, other.last), ways=self.ways + other.ways)

    def without(self, ways: Sequence[NDArray[np.int64]]) -> Ends:
        """Of the same rows, but that those of some users are counted elsewhere."""
        return self._replace(ways=self.ways - sum(ways))

    def among(self, screens: int, before: Property, platform: Property) -> Ends:
        """The same where more screens are known, and other platforms than before."""
        known = [*map(platform.values.index, before.values), len(platform.values)]
        ways = np.zeros((2, screens, len(platform.values) + 1), "int64")
        ways[:, : self.ways.shape[1], known] = self.ways
        return self._replace(ways=ways)

    @property
    def dead(self) -> NDArray[np.bool_]:
        """From which screens nobody goes on, on which platforms."""
        return dead_ends(self.ways)

    def marked(self, steps: Steps, platform: Property, later: bool = False) -> Steps:
        """A part with its journeys marked by what all parts tell together. It may have been marked
        before, and by the same dead ends: that the log goes on `later` concerns few journeys."""
        exits = exits_at(steps.journeys, self.last, Settings().idle)
        some = np.arange(len(exits))
        if later:
            some = np.flatnonzero(exits != steps.journeys.exit)
            if not len(some):
                return steps
        fresh = steps.with_exits(exits)
        mark_dead_ends(fresh, platform, self.dead, some)
        return fresh


def last_moment(log: Log, read_at: int) -> int:
    """The last one that a clock can have told that was right, in microseconds; 0 if none."""
    times = log.columns["time"]
    return int(times[plausible(times, read_at)].max(initial=0))
