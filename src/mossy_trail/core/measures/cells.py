"""Cells: what a measure counts, each named, with the journey of every time that it happened."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.kernel import kernel


class Cells(NamedTuple):
    """Things that happened in a part: of each its cell, a place in `names`, and its journey.

    Those of one cell are in the order of their journeys. A name is a tuple of words, of one cell
    alone and the same in all parts; `code` and `journey` have shape (times,).
    """

    names: Sequence[tuple[str, ...]]
    code: NDArray[np.int64]
    journey: NDArray[np.int64]

    def counts(self) -> dict[tuple[str, ...], tuple[int, int]]:
        """Per cell how often it happened, and in how many journeys."""
        times, own = _tally(self.code, self.journey, len(self.names))
        some = zip(self.names, times.tolist(), own.tolist(), strict=True)
        return {name: (n, m) for name, n, m in some if n}

    def of(self, name: tuple[str, ...]) -> NDArray[np.int64]:
        """The journeys of a cell, with repeats."""
        code = self.names.index(name) if name in self.names else -1
        return self.journey[self.code == code]


@kernel
def _tally(
    code: NDArray[np.int64], journey: NDArray[np.int64], size: int
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    times, own = np.zeros(size, np.int64), np.zeros(size, np.int64)
    last = np.full(size, -1, np.int64)
    for i in range(len(code)):
        cell = code[i]
        times[cell] += 1
        if journey[i] != last[cell]:
            last[cell] = journey[i]
            own[cell] += 1
    return times, own


def cells(
    names: Sequence[tuple[str, ...]], code: NDArray[np.generic], journey: NDArray[np.generic]
) -> Cells:
    return Cells(names, code.astype("i8"), journey.astype("i8"))


def joined(some: Iterable[Cells]) -> Cells:
    """All of them as one; no two of them have a name in common."""
    names: list[tuple[str, ...]] = []
    codes, journeys = [np.empty(0, "i8")], [np.empty(0, "i8")]
    for one in some:
        codes.append(one.code + len(names))
        journeys.append(one.journey)
        names.extend(one.names)
    return Cells(names, np.concatenate(codes), np.concatenate(journeys))


def named(
    kind: str, words: Sequence[str], code: NDArray[np.generic], journey: NDArray[np.generic]
) -> Cells:
    """Cells of one kind, whose codes point into `words`."""
    return cells([(kind, word) for word in words], code, journey)
