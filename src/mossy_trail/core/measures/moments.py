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


class Ways(NamedTuple):
    """Several ways to sort journeys into slots. Journeys that all of them sort alike are of one
    class; `of` is each journey's, −1 where no way has a slot for it, shape (journeys,). `slot` is
    the slot of each class by each way, −1 for none, shape (ways, classes); `sizes` are how many
    slots the ways have."""

    of: NDArray[np.int32]
    slot: NDArray[np.int32]
    sizes: NDArray[np.int64]

    @classmethod
    def among(cls, slots: Sequence[tuple[NDArray[np.int64], int]]) -> Ways:
        """Of the slot of each journey, −1 for none, and how many slots there are."""
        kind = np.zeros(len(slots[0][0]), "i8")
        for own, size in slots:
            kind = np.unique(kind * (size + 1) + own + 1, return_inverse=True)[1]
        _, first = np.unique(kind, return_index=True)
        slot = np.stack([own[first] for own, _ in slots])
        nowhere = np.asarray((slot < 0).all(0))[kind]
        sizes = np.array([size for _, size in slots])
        return cls(np.where(nowhere, NONE, kind).astype("i4"), slot.astype("i4"), sizes)

    def of_part(self, journeys: slice) -> Ways:
        """The same of some journeys."""
        return Ways(self.of[journeys], self.slot, self.sizes)


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
    return _in_slots(told.cell, told.journey, slot, np.zeros((told.size, size), "i8"))


@kernel
def _in_slots(cell: Column, journey: Column, slot: Column, counts: Column) -> NDArray[np.int64]:
    for i in range(len(cell)):
        own = slot[journey[i]]
        if own >= 0:
            counts[cell[i], own] += 1
    return counts


def moments(
    told: Placed,
    base: Placed,
    base_of: NDArray[np.int64],
    user: NDArray[np.int32],
    ways: Ways,
    once: bool = False,
) -> list[Moments]:
    """Sums of a part for cells, each of which has one of the bases; by each way.

    Linear in what happened, and in the journeys of each user times the ways.

    Parameters
    ----------
    base_of : of each cell the place of its base; shape (cells,).
    user : of each journey, those of one side by side; shape (journeys,).
    once : users count, each once a slot.
    """
    fresh = np.append(True, user[1:] != user[:-1])[: len(user)]
    local = (np.cumsum(fresh) - 1).astype("i4")
    users = int(local[-1]) + 1 if len(local) else 0
    own, all_ = (_by_user(side.cell, side.journey, ways.of, local, users) for side in (told, base))
    edges = np.concatenate([[0], np.cumsum(ways.sizes)])
    squares = np.concatenate([[0], np.cumsum(ways.sizes**2)])
    most = int(np.bincount(local).max(initial=1))
    most = min(most, ways.slot.shape[1])
    found = _sums(own, all_, base_of, base.size, ways.slot, edges, squares, most, once)
    return [
        _of_way(found, base_of, slice(*edges[i : i + 2]), slice(*squares[i : i + 2]), int(size))
        for i, size in enumerate(ways.sizes)
    ]


def _of_way(
    found: tuple[Column, ...], base_of: NDArray[np.int64], slots: slice, pairs: slice, size: int
) -> Moments:
    """The columns of one way, those of bases for each cell."""
    x, xx, xy, having, full, y, yy, some = found
    square = (-1, size, size)
    users = some[base_of, slots]
    return Moments(
        x[:, slots],
        y[base_of, slots],
        xx[:, pairs].reshape(square),
        xy[:, pairs].reshape(square),
        yy[base_of, pairs].reshape(square),
        having[:, slots],
        users - full[:, slots],
        users,
    )


@kernel
def _by_user(
    cell: Column, journey: Column, of: Column, local: Column, users: int
) -> tuple[Column, Column, Column]:
    """Cell and class of each, user by user; and where each user's begin."""
    begin = np.zeros(users + 1, np.int64)
    for i in range(len(cell)):
        if of[journey[i]] >= 0:
            begin[local[journey[i]] + 1] += 1
    for i in range(users):
        begin[i + 1] += begin[i]
    cells, classes = np.empty(begin[users], np.int32), np.empty(begin[users], np.int32)
    free = begin.copy()
    for i in range(len(cell)):
        own = of[journey[i]]
        if own >= 0:
            user = local[journey[i]]
            cells[free[user]], classes[free[user]] = cell[i], own
            free[user] += 1
    return cells, classes, begin


@kernel
def _sums(
    told: tuple[Column, Column, Column],
    base: tuple[Column, Column, Column],
    base_of: Column,
    bases: int,
    slot_of: Column,
    edges: Column,
    squares: Column,
    most: int,
    once: bool,
) -> tuple[Column, Column, Column, Column, Column, Column, Column, Column]:
    """`most` is how many classes a user's journeys have at the most."""
    cells, ways = len(base_of), len(slot_of)
    slots, pairs = edges[-1], squares[-1]
    x, y = np.zeros((cells, slots)), np.zeros((bases, slots))
    xx, xy, yy = np.zeros((cells, pairs)), np.zeros((cells, pairs)), np.zeros((bases, pairs))
    having, full = np.zeros((cells, slots), np.int64), np.zeros((cells, slots), np.int64)
    some = np.zeros((bases, slots), np.int64)
    # Of one user at a time: the classes there are, and counts of each by their places among these.
    own = _Side(np.zeros((cells, most)), np.empty(cells, np.int64), np.full(cells, -1))
    all_ = _Side(np.zeros((bases, most)), np.empty(bases, np.int64), np.full(bases, -1))
    place_of, last_user = np.empty(slot_of.shape[1], np.int64), np.full(slot_of.shape[1], -1)
    there, slot, at = np.empty(most, np.int64), np.empty(most, np.int64), np.empty(most, np.int64)
    sums, folded = np.zeros(most), np.zeros((bases, most))
    for user in range(len(told[2]) - 1):
        n, size = _count(told, user, own, place_of, last_user, there, 0)
        m, size = _count(base, user, all_, place_of, last_user, there, size)
        for way in range(ways):
            many = _slots_of(slot_of[way], there, size, slot, at)
            edge, square, width = edges[way], squares[way], edges[way + 1] - edges[way]
            for i in range(m):
                b = all_.touched[i]
                _fold(all_.counts[b], at, size, many, folded[b], once)
                for p in range(many):
                    count, k = folded[b, p], slot[p]
                    if count > 0:
                        y[b, edge + k] += count
                        some[b, edge + k] += 1
                        for q in range(many):
                            yy[b, square + k * width + slot[q]] += count * folded[b, q]
            for i in range(n):
                c = own.touched[i]
                b = base_of[c]
                based = all_.last_user[b] == user
                _fold(own.counts[c], at, size, many, sums, once)
                for p in range(many):
                    count, k = sums[p], slot[p]
                    if count > 0:
                        x[c, edge + k] += count
                        having[c, edge + k] += 1
                        full[c, edge + k] += not based or count >= folded[b, p]
                        for q in range(many):
                            pair = square + k * width + slot[q]
                            xx[c, pair] += count * sums[q]
                            if based:
                                xy[c, pair] += count * folded[b, q]
        for i in range(n):
            own.counts[own.touched[i], :size] = 0
        for i in range(m):
            all_.counts[all_.touched[i], :size] = 0
    return x, xx, xy, having, full, y, yy, some


class _Side(NamedTuple):
    """Counts of cells, or bases, by the user's classes; which have any, and of each the last user
    that had."""

    counts: Column
    touched: Column
    last_user: Column


@inner_kernel
def _count(
    told: tuple[Column, Column, Column],
    user: int,
    side: _Side,
    place_of: Column,
    last_user: Column,
    there: Column,
    size: int,
) -> tuple[int, int]:
    """Count one user's; how many cells have any, and how many classes there are by now."""
    cells, classes, begin = told
    found = 0
    for i in range(begin[user], begin[user + 1]):
        cell, own = cells[i], classes[i]
        if last_user[own] != user:
            last_user[own], place_of[own], there[size] = user, size, own
            size += 1
        if side.last_user[cell] != user:
            side.last_user[cell], side.touched[found] = user, cell
            found += 1
        side.counts[cell, place_of[own]] += 1
    return found, size


@inner_kernel
def _slots_of(slot_of: Column, there: Column, size: int, slot: Column, at: Column) -> int:
    """The slots of the user's classes, and at which of these each class is; how many there are."""
    many = 0
    for i in range(size):
        own, at[i] = slot_of[there[i]], -1
        if own < 0:
            continue
        for p in range(many):
            if slot[p] == own:
                at[i] = p
        if at[i] < 0:
            slot[many], at[i] = own, many
            many += 1
    return many


@inner_kernel
def _fold(counts: Column, at: Column, size: int, many: int, found: Column, once: bool) -> None:
    """Counts of classes as counts of slots."""
    for p in range(many):
        found[p] = 0
    for i in range(size):
        if at[i] >= 0:
            found[at[i]] += counts[i]
    if once:
        for p in range(many):
            found[p] = min(found[p], 1)


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
