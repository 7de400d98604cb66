"""Cells: what a measure counts, each named, with the journey of every time that it happened."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from math import prod
from typing import NamedTuple, Protocol, TypeVar

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.kernel import kernel
from mossy_trail.core.model.log import NONE, Column

Words = tuple[str, ...]
_DENSE = 1 << 16
"""Up to so many cells are counted in a table of all of them, more in one of those that occur."""


class Naming(Protocol):
    """Numbers for the cells of a kind, below `size`, the same in all parts of a study."""

    @property
    def size(self) -> int: ...

    def name(self, number: int) -> Words: ...

    def number(self, name: Words) -> int:
        """The cell of that name, −1 where there is none."""
        ...


class Grid:
    """Cells named by a word of each list; numbers run through the last list first."""

    def __init__(self, *lists: Sequence[str]) -> None:
        self._lists = lists
        self.size = prod(map(len, lists))

    @cached_property
    def _codes(self) -> list[dict[str, int]]:
        return [{word: i for i, word in enumerate(words)} for words in self._lists]

    def name(self, number: int) -> Words:
        found: list[str] = []
        for words in reversed(self._lists):
            number, code = divmod(number, len(words))
            found.append(words[code])
        return tuple(reversed(found))

    def number(self, name: Words) -> int:
        if len(name) != len(self._lists):
            return NONE
        number = 0
        for word, codes in zip(name, self._codes, strict=True):
            if word not in codes:
                return NONE
            number = number * len(codes) + codes[word]
        return number


class Frequencies(NamedTuple):
    """Numbers that occur, in order, and how often; shape (numbers,)."""

    number: NDArray[np.int64]
    times: NDArray[np.int64]


def frequencies(number: NDArray[np.int64], size: int) -> Frequencies:
    """Of numbers below `size`, without those that are −1."""
    if size > _DENSE:
        return Frequencies(*np.unique(number[number != NONE], return_counts=True))
    counts = np.bincount(number + 1, minlength=size + 1)[1:]
    some = np.flatnonzero(counts)
    return Frequencies(some, counts[some])


class Tally(NamedTuple):
    """How often each cell occurred, in how many journeys, and of how many users; those that did
    occur, in the order of their numbers. Arrays of shape (cells,)."""

    number: NDArray[np.int64]
    times: NDArray[np.int64]
    journeys: NDArray[np.int64]
    users: NDArray[np.int64]


class Cells(NamedTuple):
    """Things of one kind that happened in a part: of each its cell and its journey.

    Those of one cell are in the order of their journeys. Shape (times,); where `number` is −1,
    nothing happened.
    """

    naming: Naming
    number: NDArray[np.int64]
    journey: NDArray[np.int32]

    def tally(self, user: NDArray[np.int32]) -> Tally:
        """Count them, given each journey's user; linear in what happened, if cells are few."""
        if self.naming.size <= _DENSE:
            return Tally(*_tally(self.number, self.journey, user, self.naming.size))
        names, codes = _coded(self.number)
        code, *counts = _tally(codes, self.journey, user, len(names))
        order = np.argsort(names[code])
        return Tally(names[code][order], *(column[order] for column in counts))

    def in_journeys(self, number: int, journeys: int) -> NDArray[np.int64]:
        """How often a cell happened in each journey; shape (journeys,)."""
        return _in_journeys(self.number, self.journey, number, journeys)

    def having(self, numbers: NDArray[np.int64], journeys: int) -> NDArray[np.bool_]:
        """In which journeys each of some cells, in order, happened; shape (numbers, journeys)."""
        return _having(self.number, self.journey, numbers, journeys)

    def of(self, name: Words) -> NDArray[np.int32]:
        """The journeys of a cell, with repeats."""
        number = self.naming.number(name)
        return self.journey[(self.number == number) & (number != NONE)]


@kernel
def _in_journeys(number: Column, journey: Column, wanted: int, journeys: int) -> NDArray[np.int64]:
    counts = np.zeros(journeys, np.int64)
    for i in range(len(number)):
        if number[i] == wanted:
            counts[journey[i]] += 1
    return counts


@kernel
def _having(number: Column, journey: Column, wanted: Column, journeys: int) -> NDArray[np.bool_]:
    found = np.zeros((len(wanted), journeys), np.bool_)
    for i in range(len(number)):
        place = np.searchsorted(wanted, number[i])
        if place < len(wanted) and wanted[place] == number[i]:
            found[place, journey[i]] = True
    return found


@kernel
def _tally(
    number: Column, journey: Column, user: Column, size: int
) -> tuple[Column, Column, Column, Column]:
    counts = np.zeros((3, size), np.int64)
    last = np.full((2, size), -1, np.int64)
    for i in range(len(number)):
        cell, j = number[i], journey[i]
        if cell < 0:
            continue
        counts[0, cell] += 1
        if j != last[0, cell]:
            last[0, cell] = j
            counts[1, cell] += 1
            if user[j] != last[1, cell]:
                last[1, cell] = user[j]
                counts[2, cell] += 1
    some = np.flatnonzero(counts[0])
    return some, counts[0][some], counts[1][some], counts[2][some]


@kernel
def _coded(number: Column) -> tuple[Column, Column]:
    """The numbers that there are as they first come, and of each its place among them, −1 for none.

    By a table of hashes (multiplied as D. Knuth, The Art of Computer Programming 3, 1973)."""
    size = 2
    while size < 2 * len(number):
        size *= 2
    table, names = np.full(size, -1, np.int64), np.empty(len(number), np.int64)
    codes, count = np.empty(len(number), np.int64), 0
    for i in range(len(number)):
        if number[i] < 0:
            codes[i] = -1
            continue
        place = ((number[i] * 2_654_435_761) >> 16) & (size - 1)
        while table[place] >= 0 and names[table[place]] != number[i]:
            place = (place + 1) & (size - 1)
        if table[place] < 0:
            table[place], names[count] = count, number[i]
            count += 1
        codes[i] = table[place]
    return names[:count].copy(), codes


def cells(naming: Naming, number: NDArray[np.generic], journey: NDArray[np.generic]) -> Cells:
    return Cells(naming, np.ascontiguousarray(number, "i8"), np.ascontiguousarray(journey, "i4"))


def picked(
    naming: Naming, mask: NDArray[np.bool_], number: NDArray[np.int32], journey: NDArray[np.int32]
) -> Cells:
    """Only where the mask is set."""
    some = np.flatnonzero(mask)
    return cells(naming, number[some], journey[some])


Counted = TypeVar("Counted", Tally, Frequencies)


def added(parts: Sequence[Counted]) -> Counted:
    """The counts of several parts as one; no two parts have a user in common."""
    columns = [np.concatenate(column) for column in zip(*parts, strict=True)]
    number, place = np.unique(columns[0], return_inverse=True)
    sums = (np.bincount(place, column, len(number)).astype("i8") for column in columns[1:])
    return type(parts[0])(number, *sums)
