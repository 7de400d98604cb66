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


class Placed(NamedTuple):
    """What happened, by the place of its cell among those that are looked at; shape (times,)."""

    cell: NDArray[np.int64]
    journey: NDArray[np.int32]
    size: int


def placed(kinds: Sequence[tuple[Cells, NDArray[np.int64]]]) -> Placed:
    """The cells of several kinds one after the other: of each those whose numbers are chosen, which
    are in order."""
    cells, journeys, size = [np.empty(0, "i8")], [np.empty(0, "i4")], 0
    for told, chosen in kinds:
        place = np.minimum(np.searchsorted(chosen, told.number), max(len(chosen) - 1, 0))
        known = (told.number != NONE) & (chosen[place] == told.number) if len(chosen) else place < 0
        cells.append(place[known] + size)
        journeys.append(told.journey[known])
        size += len(chosen)
    return Placed(np.concatenate(cells), np.concatenate(journeys), size)


def in_slots(told: Placed, slot: NDArray[np.int64], size: int) -> NDArray[np.int64]:
    """How often each cell happened in the journeys of each slot; shape (cells, slots)."""
    own = slot[told.journey]
    at = told.cell[own >= 0] * size + own[own >= 0]
    return np.bincount(at, minlength=told.size * size).reshape(-1, size)


def moments(
    told: Placed,
    base: Placed,
    base_of: NDArray[np.int64],
    user: NDArray[np.int32],
    slots: Slots,
) -> Moments:
    """Sums of a part for cells, each of which has one of the bases.

    Parameters
    ----------
    base_of : of each cell the place of its base; shape (cells,).
    user : of each journey, those of one side by side; shape (journeys,).
    """
    fresh = np.append(True, user[1:] != user[:-1])[: len(user)]
    local = np.cumsum(fresh) - 1
    users = int(local[-1]) + 1 if len(local) else 0
    total = _none(told.size, slots.size)
    step = max(_AT_ONCE // max((told.size + base.size) * slots.size, 1), 1)
    sides = [_events(side, local, slots, users > step) for side in (told, base)]
    for begin in range(0, users, step):
        size = min(step, users - begin)
        x, y = (_table(side, begin, size, slots) for side in sides)
        total = plus([total, moments_of(x, y, base_of)])
    return total


class _Events(NamedTuple):
    """Shape (events,); `ordered` by users, if these come block by block."""

    cell: NDArray[np.int64]
    user: NDArray[np.int64]
    slot: NDArray[np.int64]
    cells: int
    ordered: bool


def _events(told: Placed, local: NDArray[np.int64], slots: Slots, ordered: bool) -> _Events:
    slot = slots.of[told.journey]
    known = slot >= 0
    cell, own, slot = told.cell[known], local[told.journey[known]], slot[known]
    if ordered:
        order = np.argsort(own, kind="stable")
        cell, own, slot = cell[order], own[order], slot[order]
    return _Events(cell, own, slot, told.size, ordered)


def _table(events: _Events, begin: int, size: int, slots: Slots) -> NDArray[np.float64]:
    """Counts of shape (cells, users, slots)."""
    here = slice(None)
    if events.ordered:
        here = slice(*np.searchsorted(events.user, [begin, begin + size]))
    at = (events.cell[here] * size + events.user[here] - begin) * slots.size + events.slot[here]
    counts = np.bincount(at, minlength=events.cells * size * slots.size)
    found = counts.reshape(events.cells, size, slots.size).astype("f8")
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


def each_once(told: Cells) -> Cells:
    """Each cell once a journey, in the order of journeys."""
    known = told.number != NONE
    key = told.journey[known].astype("i8"), told.number[known]
    order = np.lexsort(key[::-1])
    journey, number = key[0][order], key[1][order]
    fresh = np.append(True, (journey[1:] != journey[:-1]) | (number[1:] != number[:-1]))
    fresh = fresh[: len(journey)]
    return Cells(told.naming, number[fresh], journey[fresh].astype("i4"))
