"""How often things happened of how often they could, by users: sums that tell what chance does.

Several journeys of a user are alike, so what chance works on is the user. A share of groups of
journeys is a ratio of sums over users, and its variance needs no more than the sums of products
that stand here; those of several parts are added, as no user is in two.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import reduce
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.kernel import inner_kernel, kernel
from mossy_trail.core.measures.cells import Cells
from mossy_trail.core.model.log import NONE, Column

ALL = 1 << 62
"""The width of a kind whose cells have one base in common."""
_DENSE = 1 << 20
"""Up to so many numbers are looked up in a table."""


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
        number = told.number
        if told.naming.size > _DENSE:
            near = np.minimum(np.searchsorted(chosen, number), max(len(chosen) - 1, 0))
            known = chosen[near] == number if len(chosen) else near < 0
            number, place = np.where(known, near, NONE), np.arange(len(chosen))
        else:
            place = np.full(told.naming.size, NONE)
            place[chosen] = np.arange(len(chosen))
        own, journey = _placed(number, told.journey, place, size)
        cells.append(own)
        journeys.append(journey)
        size += len(chosen)
    return Placed(np.concatenate(cells), np.concatenate(journeys), size)


@kernel
def _placed(number: Column, journey: Column, place: Column, first: int) -> tuple[Column, Column]:
    """The places, from `first` on, of numbers that have one, and their journeys."""
    cells, journeys = np.empty(len(number), np.int64), np.empty(len(number), np.int32)
    count = 0
    for i in range(len(number)):
        if number[i] >= 0 and place[number[i]] >= 0:
            cells[count], journeys[count] = first + place[number[i]], journey[i]
            count += 1
    return cells[:count], journeys[:count]


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
    """Sums of a part for cells, each of which has one of the bases; linear in what happened.

    Parameters
    ----------
    base_of : of each cell the place of its base; shape (cells,).
    user : of each journey, those of one side by side; shape (journeys,).
    """
    fresh = np.append(True, user[1:] != user[:-1])[: len(user)]
    local = np.cumsum(fresh) - 1
    users = int(local[-1]) + 1 if len(local) else 0
    own, all_ = (
        _by_user(side.cell, side.journey, slots.of, local, users, slots.size)
        for side in (told, base)
    )
    found = _sums(*own, *all_, base_of, told.size, base.size, slots.size, slots.once)
    x, xx, xy, having, full, y, yy, some = found
    return Moments(x, y[base_of], xx, xy, yy[base_of], having, some[base_of] - full, some[base_of])


@kernel
def _by_user(
    cell: Column, journey: Column, slot: Column, local: Column, users: int, slots: int
) -> tuple[Column, Column]:
    """The cell and slot of each as one number, user by user; and where each user's begin."""
    begin = np.zeros(users + 1, np.int64)
    for i in range(len(cell)):
        if slot[journey[i]] >= 0:
            begin[local[journey[i]] + 1] += 1
    for i in range(users):
        begin[i + 1] += begin[i]
    sorted_, free = np.empty(begin[users], np.int64), begin.copy()
    for i in range(len(cell)):
        own = slot[journey[i]]
        if own >= 0:
            user = local[journey[i]]
            sorted_[free[user]] = cell[i] * slots + own
            free[user] += 1
    return sorted_, begin


@kernel
def _sums(
    x_at: Column,
    x_begin: Column,
    y_at: Column,
    y_begin: Column,
    base_of: Column,
    cells: int,
    bases: int,
    slots: int,
    once: bool,
) -> tuple[Column, Column, Column, Column, Column, Column, Column, Column]:
    x, y = np.zeros((cells, slots)), np.zeros((bases, slots))
    xx, xy = np.zeros((cells, slots, slots)), np.zeros((cells, slots, slots))
    yy = np.zeros((bases, slots, slots))
    having, full = np.zeros((cells, slots), np.int64), np.zeros((cells, slots), np.int64)
    some = np.zeros((bases, slots), np.int64)
    # Of one user at a time: counts, and which cells have any, so that only these are cleared.
    own, all_ = np.zeros((cells, slots)), np.zeros((bases, slots))
    own_cells, all_cells = np.empty(cells, np.int64), np.empty(bases, np.int64)
    for user in range(len(x_begin) - 1):
        n = _count(x_at, x_begin[user], x_begin[user + 1], own, own_cells, slots, once)
        m = _count(y_at, y_begin[user], y_begin[user + 1], all_, all_cells, slots, once)
        for i in range(m):
            _add(y, yy, some, all_, all_cells[i], slots)
        for i in range(n):
            cell = own_cells[i]
            base = base_of[cell]
            _add(x, xx, having, own, cell, slots)
            for k in range(slots):
                full[cell, k] += own[cell, k] > 0 and own[cell, k] >= all_[base, k]
                if own[cell, k] > 0:
                    for other in range(slots):
                        xy[cell, k, other] += own[cell, k] * all_[base, other]
        for i in range(n):
            own[own_cells[i]] = 0
        for i in range(m):
            all_[all_cells[i]] = 0
    return x, xx, xy, having, full, y, yy, some


@inner_kernel
def _count(
    at: Column, begin: int, end: int, counts: Column, touched: Column, slots: int, once: bool
) -> int:
    """Count one user's, and note which cells have any."""
    found = 0
    for i in range(begin, end):
        cell, slot = at[i] // slots, at[i] % slots
        fresh = True
        for k in range(slots):
            fresh = fresh and counts[cell, k] == 0
        if fresh:
            touched[found] = cell
            found += 1
        if not once or counts[cell, slot] == 0:
            counts[cell, slot] += 1
    return found


@inner_kernel
def _add(
    sums: Column, squares: Column, users: Column, counts: Column, cell: int, slots: int
) -> None:
    for k in range(slots):
        if counts[cell, k] > 0:
            sums[cell, k] += counts[cell, k]
            users[cell, k] += 1
            for other in range(slots):
                squares[cell, k, other] += counts[cell, k] * counts[cell, other]


def moments_of(
    x: NDArray[np.float64], y: NDArray[np.float64], base_of: NDArray[np.int64]
) -> Moments:
    """From counts of shapes (cells, users, slots) and (bases, users, slots); and of each cell its
    base."""
    yy, own = _products(y, y), y[base_of]
    return Moments(
        x.sum(1),
        y.sum(1)[base_of],
        _products(x, x),
        _products(x, own),
        yy[base_of],
        (x > 0).sum(1),
        (x < own).sum(1),
        (y > 0).sum(1)[base_of],
    )


def _products(one: NDArray[np.float64], other: NDArray[np.float64]) -> NDArray[np.float64]:
    """Summed over users; shape (cells, slots, slots)."""
    return np.stack([left.T @ right for left, right in zip(one, other, strict=True)])


def plus(parts: Sequence[Moments]) -> Moments:
    """The sums of several parts as one."""
    return Moments(*(reduce(np.add, columns) for columns in zip(*parts, strict=True)))


def each_once(told: Cells) -> Cells:
    """Each cell once a journey, in the order of journeys."""
    known = told.number != NONE
    key = told.journey[known].astype("i8"), told.number[known]
    order = np.lexsort(key[::-1])
    journey, number = key[0][order], key[1][order]
    fresh = np.append(True, (journey[1:] != journey[:-1]) | (number[1:] != number[:-1]))
    fresh = fresh[: len(journey)]
    return Cells(told.naming, number[fresh], journey[fresh].astype("i4"))
