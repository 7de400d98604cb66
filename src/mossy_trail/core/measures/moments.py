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
from mossy_trail.core.measures.cells import Cells, Grid
from mossy_trail.core.model.log import NONE, Column
from mossy_trail.core.model.steps import Users

ALL = 1 << 62
"""The width of a kind whose cells have one base in common."""
_DENSE = 1 << 20
"""Up to so many numbers are looked up in a table."""
_MOST_ALONE = 256
"""Up to so many classes have sums of their own, of the users who have no other."""


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


def some_of(sums: Moments, cells: NDArray[np.int64]) -> Moments:
    """Those of some cells, by their places."""
    return Moments(*(column[cells] for column in sums))  # type: ignore[arg-type]


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


class Chosen(NamedTuple):
    """Cells of a kind, and those numbers of them, in order, that are looked at."""

    cells: Cells
    numbers: NDArray[np.int64]


class Days(NamedTuple):
    """The day of each journey, −1 for none, and how many days there are."""

    of: NDArray[np.int64]
    many: int

    def of_part(self, journeys: slice) -> Days:
        """The same of some journeys."""
        return Days(self.of[journeys], self.many)


NO_DAYS = Days(np.zeros(0, "i8"), 0)


class Sums(NamedTuple):
    """Of one part or several: sums that users of one class add, by class; those that others add, by
    the slots of all ways; and how often each cell and each base was on each day."""

    lone: tuple[Column, ...]
    others: tuple[Column, ...]
    by_day: tuple[Column, Column]


def summed(
    told: Sequence[Chosen],
    base: Sequence[Chosen],
    base_of: NDArray[np.int64],
    users: Users,
    ways: Ways,
    days: Days = NO_DAYS,
    once_a_journey: bool = False,
    once_a_user: bool = False,
) -> Sums:
    """Sums of a part for cells, each of which has one of the bases.

    Linear in what happened, and in the journeys of each user times the ways; in the former alone
    for users whose journeys all are of one class.

    Parameters
    ----------
    told, base : the cells of several kinds, whose places follow on each other.
    base_of : of each cell the place of its base; shape (cells,).
    once_a_journey : a cell counts once in each.
    once_a_user : users count, each once a slot.
    """
    (own, own_days), (all_, all_days) = (
        _by_user(side, users, ways.of, days, once_a_journey) for side in (told, base)
    )
    edges = np.concatenate([[0], np.cumsum(ways.sizes)])
    squares = np.concatenate([[0], np.cumsum(ways.sizes**2)])
    bases = sum(len(one.numbers) for one in base)
    most = min(users.most, ways.slot.shape[1])
    lone, others = _sums(own, all_, base_of, bases, ways.slot, edges, squares, most, once_a_user)
    return Sums(lone, others, (own_days, all_days))


def together(parts: Sequence[Sums]) -> Sums:
    """The sums of several parts as one; no two have a user in common."""
    sides = (
        tuple(reduce(np.add, column) for column in zip(*side, strict=True))
        for side in zip(*parts, strict=True)
    )
    return Sums(*sides)


def in_ways(sums: Sums, base_of: NDArray[np.int64], ways: Ways) -> list[Moments]:
    """The same by each way to sort journeys."""
    edges, squares = np.cumsum([0, *ways.sizes]), np.cumsum([0, *ways.sizes**2])
    return [
        _of_way(sums, base_of, slot, slice(*edges[i : i + 2]), slice(*squares[i : i + 2]))
        for i, slot in enumerate(ways.slot)
    ]


def _of_way(
    sums: Sums, base_of: NDArray[np.int64], slot: NDArray[np.int32], slots: slice, pairs: slice
) -> Moments:
    """The columns of one way, those of bases for each cell."""
    size = slots.stop - slots.start
    sort = (slot[:, None] == np.arange(size)).astype("f8")
    flat = [
        one[:, slots] + (alone @ sort[: alone.shape[1]]).astype(one.dtype)
        for one, alone in zip(_picked(sums.others, _FLAT), _picked(sums.lone, _FLAT), strict=True)
    ]
    square = []
    for one, alone in zip(_picked(sums.others, _SQUARE), _picked(sums.lone, _SQUARE), strict=True):
        found = one[:, pairs].reshape(-1, size, size).copy()
        found[:, np.arange(size), np.arange(size)] += alone @ sort[: alone.shape[1]]
        square.append(found)
    (x, having, full, y, some), (xx, xy, yy) = flat, square
    users = some[base_of]
    return Moments(x, y[base_of], xx, xy, yy[base_of], having, users - full, users)


_FLAT, _SQUARE = (0, 3, 4, 5, 7), (1, 2, 6)
"""Places among sums: x, having, full, y and some; xx, xy and yy."""


def _picked(columns: Sequence[Column], places: Sequence[int]) -> list[Column]:
    return [columns[place] for place in places]


class _Sorted(NamedTuple):
    """Cell and class of each that happened, user by user, and where each user's begin."""

    cell: Column
    of: Column
    begin: Column


def _by_user(
    kinds: Sequence[Chosen], users: Users, of: Column, days: Days, once: bool
) -> tuple[_Sorted, Column]:
    """What is looked at, user by user; and how often each cell was on each day."""
    most = sum(len(one.cells.number) for one in kinds)
    places = sum(len(one.numbers) for one in kinds)
    found = np.empty((most, 3), np.int32)
    begin, by_day = np.zeros(users.many + 1, "i8"), np.zeros((places, days.many), "i8")
    day = days.of if days.many else np.full(len(of), NONE)
    about = np.stack([of, users.of, day], 1).astype("i4")  # side by side, as all three are read
    size = first = 0
    for told, numbers in kinds:
        place = np.empty(0, "i8")
        if told.naming.size <= _DENSE:
            place = np.full(told.naming.size, NONE)
            place[numbers] = np.arange(len(numbers))
        last = np.full(len(numbers) if once else 0, NONE)
        cells, journeys = told.number, told.journey
        size = _placed(
            cells, journeys, numbers, place, last, about, first, size, found, begin, by_day
        )
        first += len(numbers)
    return _Sorted(*_in_order(found, size, begin)), by_day


@kernel
def _placed(
    number: Column,
    journey: Column,
    chosen: Column,
    place: Column,
    last: Column,
    about: Column,
    first: int,
    size: int,
    found: Column,
    begin: Column,
    by_day: Column,
) -> int:
    """Add place, class and user of each number that is chosen to what is found; count its day, and
    how many each user has.

    `about` has the class, user and day of each journey. `last` is of each place the journey that it
    was in, to count it once.
    """
    for i in range(len(number)):
        if number[i] < 0:
            continue
        if len(place):
            p = place[number[i]]
        else:
            p = np.searchsorted(chosen, number[i])
            if p == len(chosen) or chosen[p] != number[i]:
                p = -1
        if p < 0:
            continue
        j = journey[i]
        if len(last):
            if last[p] == j:
                continue
            last[p] = j
        own, user, day = about[j, 0], about[j, 1], about[j, 2]
        if day >= 0:
            by_day[first + p, day] += 1
        if own >= 0:
            found[size, 0], found[size, 1], found[size, 2] = first + p, own, user
            begin[user + 1] += 1
            size += 1
    return size


@kernel
def _in_order(found: Column, size: int, begin: Column) -> tuple[Column, Column, Column]:
    """Cells and classes, user by user; and where each user's begin, given how many each has."""
    for i in range(len(begin) - 1):
        begin[i + 1] += begin[i]
    cells, classes = np.empty(size, np.int32), np.empty(size, np.int32)
    free = begin.copy()
    for i in range(size):
        user = found[i, 2]
        cells[free[user]], classes[free[user]] = found[i, 0], found[i, 1]
        free[user] += 1
    return cells, classes, begin


@kernel
def _sums(
    told: _Sorted,
    base: _Sorted,
    base_of: Column,
    bases: int,
    slot_of: Column,
    edges: Column,
    squares: Column,
    most: int,
    once: bool,
) -> tuple[tuple[Column, ...], tuple[Column, ...]]:
    """`most` is how many classes a user's journeys have at the most."""
    cells, ways, classes = len(base_of), len(slot_of), slot_of.shape[1]
    alone = classes if classes <= _MOST_ALONE else 0
    lone = _table(cells, bases, alone, alone)
    x, xx, xy, having, full, y, yy, some = _table(cells, bases, edges[-1], squares[-1])
    # Of one user at a time: the classes there are, and counts of each by their places among these.
    own = _Side(np.zeros((cells, most)), np.empty(cells, np.int64), np.full(cells, -1))
    all_ = _Side(np.zeros((bases, most)), np.empty(bases, np.int64), np.full(bases, -1))
    place_of, last_user = np.empty(classes, np.int64), np.full(classes, -1)
    there, slot, at = np.empty(most, np.int64), np.empty(most, np.int64), np.empty(most, np.int64)
    sums, folded = np.zeros(most), np.zeros((bases, most))
    for user in range(len(told.begin) - 1):
        n, size = _count(told, user, own, place_of, last_user, there, 0)
        m, size = _count(base, user, all_, place_of, last_user, there, size)
        if size < 2 and alone:
            _add_lone(own, all_, n, m, base_of, there[0], user, once, lone)
            continue
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
    return lone, (x, xx, xy, having, full, y, yy, some)


Tables = tuple[Column, Column, Column, Column, Column, Column, Column, Column]


@kernel
def _table(cells: int, bases: int, slots: int, pairs: int) -> Tables:
    """Empty sums: x, xx, xy, having and full of cells; y, yy and some of bases."""
    return (
        np.zeros((cells, slots)),
        np.zeros((cells, pairs)),
        np.zeros((cells, pairs)),
        np.zeros((cells, slots), np.int64),
        np.zeros((cells, slots), np.int64),
        np.zeros((bases, slots)),
        np.zeros((bases, pairs)),
        np.zeros((bases, slots), np.int64),
    )


class _Side(NamedTuple):
    """Counts of cells, or bases, by the user's classes; which have any, and of each the last user
    that had."""

    counts: Column
    touched: Column
    last_user: Column


@inner_kernel
def _count(
    told: _Sorted,
    user: int,
    side: _Side,
    place_of: Column,
    last_user: Column,
    there: Column,
    size: int,
) -> tuple[int, int]:
    """Count one user's; how many cells have any, and how many classes there are by now."""
    found = 0
    for i in range(told.begin[user], told.begin[user + 1]):
        cell, own = told.cell[i], told.of[i]
        if last_user[own] != user:
            last_user[own], place_of[own], there[size] = user, size, own
            size += 1
        if side.last_user[cell] != user:
            side.last_user[cell], side.touched[found] = user, cell
            found += 1
        side.counts[cell, place_of[own]] += 1
    return found, size


@inner_kernel
def _add_lone(
    own: _Side, all_: _Side, n: int, m: int, base_of: Column, k: int, user: int, once: bool,
    lone: Tables,
) -> None:  # fmt: skip
    """Add what a user has whose journeys are all of one class, whatever the ways; and forget it."""
    x, xx, xy, having, full, y, yy, some = lone
    for i in range(n):
        c = own.touched[i]
        b = base_of[c]
        count = min(own.counts[c, 0], 1) if once else own.counts[c, 0]
        of = 0.0
        if all_.last_user[b] == user:
            of = min(all_.counts[b, 0], 1) if once else all_.counts[b, 0]
        x[c, k] += count
        xx[c, k] += count * count
        xy[c, k] += count * of
        having[c, k] += 1
        full[c, k] += count >= of
        own.counts[c, 0] = 0
    for i in range(m):
        b = all_.touched[i]
        count = min(all_.counts[b, 0], 1) if once else all_.counts[b, 0]
        y[b, k] += count
        yy[b, k] += count * count
        some[b, k] += 1
        all_.counts[b, 0] = 0


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


def up_to(
    number: NDArray[np.int64],
    value: NDArray[np.float64],
    journey: NDArray[np.int64],
    chosen: NDArray[np.int64],
    limits: NDArray[np.float64],
) -> tuple[list[Chosen], list[Chosen]]:
    """Of values each with its cell, those of each chosen cell up to its limit, and all of them;
    values of −1 are left out."""
    naming, whole = Grid([""] * len(chosen)), np.arange(len(chosen))
    where = journey.astype("i4")
    sides = (
        [Chosen(Cells(naming, side, where), whole)]
        for side in _up_to(number, value, chosen, limits)
    )
    return tuple(sides)  # type: ignore[return-value]


@kernel
def _up_to(number: Column, value: Column, chosen: Column, limits: Column) -> tuple[Column, Column]:
    below, all_ = np.full(len(number), -1), np.full(len(number), -1)
    for i in range(len(number)):
        place = np.searchsorted(chosen, number[i])
        if value[i] >= 0 and place < len(chosen) and chosen[place] == number[i]:
            all_[i] = place
            if value[i] <= limits[place]:
                below[i] = place
    return below, all_


@kernel
def by_cell(number: Column, value: Column, chosen: Column) -> tuple[Column, Column]:
    """Where those of each chosen number stand, one after the other, without values of −1; and
    where each number's begin."""
    place, begin = np.full(len(number), -1, np.int32), np.zeros(len(chosen) + 1, np.int64)
    for i in range(len(number)):
        at = np.searchsorted(chosen, number[i])
        if value[i] >= 0 and at < len(chosen) and chosen[at] == number[i]:
            place[i] = at
            begin[at + 1] += 1
    for at in range(len(chosen)):
        begin[at + 1] += begin[at]
    order, free = np.empty(begin[-1], np.int64), begin.copy()
    for i in range(len(number)):
        if place[i] >= 0:
            order[free[place[i]]] = i
            free[place[i]] += 1
    return order, begin
