"""How often things happened of how often they could, by users: sums that tell what chance does.

Several journeys of a user are alike, so what chance works on is the user. A share of groups of
journeys is a ratio of sums over users, and its variance needs no more than the sums of products
that stand here; those of several parts are added, as no user is in two.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.measures.cells import Cells
from mossy_trail.core.model.log import NONE

ALL = 1 << 62
"""The width of a kind whose cells have one base in common."""
_AT_ONCE = 1 << 22
"""Numbers in the table of cells, users and slots that is held at once."""


class Moments(NamedTuple):
    """Of users' counts x of a cell and y of its base, in slots: sums, and sums of products.

    `x`, `y` have shape (cells, slots), `xx`, `xy` and `yy` (cells, slots, slots). `having` are
    users with any x in a slot, `lacking` those with fewer x than y, `users` those with any y.
    """

    x: NDArray[np.float64]
    y: NDArray[np.float64]
    xx: NDArray[np.float64]
    xy: NDArray[np.float64]
    yy: NDArray[np.float64]
    having: NDArray[np.int64]
    lacking: NDArray[np.int64]
    users: NDArray[np.int64]


class Slots(NamedTuple):
    """The slot of each journey, −1 for none; whether users count, each once a slot; and how many
    slots there are. Shape (journeys,)."""

    of: NDArray[np.int64]
    once: bool
    size: int


def moments(
    told: Cells,
    base: Cells,
    width: int,
    chosen: NDArray[np.int64],
    user: NDArray[np.int32],
    slots: Slots,
) -> Moments:
    """Sums of a part for the cells `chosen`, whose bases are the cells `chosen // width`.

    Parameters
    ----------
    chosen : numbers of cells, in order; shape (cells,).
    user : of each journey, those of one side by side; shape (journeys,).
    """
    bases, base_of = np.unique(chosen // width, return_inverse=True)
    fresh = np.append(True, user[1:] != user[:-1])[: len(user)]
    local = np.cumsum(fresh) - 1
    x_events = _events(told, chosen, local, slots)
    y_events = _events(base, bases, local, slots)
    users = int(local[-1]) + 1 if len(local) else 0
    total = _none(len(chosen), slots.size)
    step = max(_AT_ONCE // max((len(chosen) + len(bases)) * slots.size, 1), 1)
    for begin in range(0, users, step):
        size = min(step, users - begin)
        x = _table(x_events, len(chosen), begin, size, slots)
        y = _table(y_events, len(bases), begin, size, slots)
        total = plus([total, moments_of(x, y, base_of)])
    return total


def in_slots(
    told: Cells, chosen: NDArray[np.int64], slot: NDArray[np.int64], size: int
) -> NDArray[np.int64]:
    """How often each chosen cell happened in the journeys of each slot; shape (cells, slots)."""
    place, known = _places(told, chosen)
    own = slot[told.journey]
    known &= own >= 0
    at = place[known] * size + own[known]
    return np.bincount(at, minlength=len(chosen) * size).reshape(-1, size)


def _places(told: Cells, chosen: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
    """The place of each number among those chosen, and whether it is one of them."""
    place = np.minimum(np.searchsorted(chosen, told.number), max(len(chosen) - 1, 0))
    if not len(chosen):
        return place, np.zeros(len(place), bool)
    return place, (told.number != NONE) & (chosen[place] == told.number)


class _Events(NamedTuple):
    """In order of users; shape (events,)."""

    cell: NDArray[np.int64]
    user: NDArray[np.int64]
    slot: NDArray[np.int64]


def _events(
    told: Cells, chosen: NDArray[np.int64], local: NDArray[np.int64], slots: Slots
) -> _Events:
    place, known = _places(told, chosen)
    slot = slots.of[told.journey]
    known &= slot >= 0
    own = local[told.journey[known]]
    if (own[1:] >= own[:-1]).all():
        return _Events(place[known], own, slot[known])
    order = np.argsort(own, kind="stable")
    return _Events(place[known][order], own[order], slot[known][order])


def _table(events: _Events, cells: int, begin: int, size: int, slots: Slots) -> NDArray[np.float64]:
    """Counts of shape (cells, users, slots)."""
    here = slice(*np.searchsorted(events.user, [begin, begin + size]))
    at = (events.cell[here] * size + events.user[here] - begin) * slots.size + events.slot[here]
    counts = np.bincount(at, minlength=cells * size * slots.size)
    found = counts.reshape(cells, size, slots.size).astype("f8")
    return np.minimum(found, 1) if slots.once else found


def moments_of(
    x: NDArray[np.float64], y: NDArray[np.float64], base_of: NDArray[np.int64]
) -> Moments:
    """From counts of shapes (cells, users, slots) and (bases, users, slots); and of each cell its
    base."""
    yy, own = np.matmul(y.transpose(0, 2, 1), y), y[base_of]
    return Moments(
        x.sum(1),
        y.sum(1)[base_of],
        np.matmul(x.transpose(0, 2, 1), x),
        np.matmul(x.transpose(0, 2, 1), own),
        yy[base_of],
        (x > 0).sum(1),
        (x < own).sum(1),
        (y > 0).sum(1)[base_of],
    )


def _none(cells: int, slots: int) -> Moments:
    flat, square = np.zeros((cells, slots)), np.zeros((cells, slots, slots))
    counts = np.zeros((cells, slots), "i8")
    return Moments(flat, flat, square, square, square, counts, counts, counts)


def plus(parts: Sequence[Moments]) -> Moments:
    """The sums of several parts as one."""
    return Moments(*(np.sum(columns, axis=0) for columns in zip(*parts, strict=True)))


def each_once(told: Cells, journeys: int) -> Cells:
    """Each cell once a journey, in the order of journeys."""
    known = told.number != NONE
    key = told.journey[known].astype("i8"), told.number[known]
    order = np.lexsort(key[::-1])
    journey, number = key[0][order], key[1][order]
    fresh = np.append(True, (journey[1:] != journey[:-1]) | (number[1:] != number[:-1]))
    fresh = fresh[: len(journey)]
    return Cells(told.naming, number[fresh], journey[fresh].astype("i4"))
