"""Two groups of journeys held against each other, in every share and time of all measures."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from pydantic import ValidationError

from mossy_trail.core.ahead import ahead
from mossy_trail.core.measures.moments import Ways
from mossy_trail.core.model.pattern import PatternError
from mossy_trail.core.model.scope import Scope
from mossy_trail.core.model.steps import count_users
from mossy_trail.core.stats.clustered import Estimate, Gap, adjusted, estimates, gaps, gaps_within
from mossy_trail.core.stats.medians import Middle, between, middle
from mossy_trail.engine import (
    funnel,
    measures,  # noqa: F401 - all that there are register themselves
    segments,
)
from mossy_trail.engine.journeys import Wanted
from mossy_trail.engine.rates import RATES, Asked, Figure, Shares, Timed, Times, counted
from mossy_trail.engine.scoped import groups_of, scope_mask
from mossy_trail.engine.study import Study

Mask = NDArray[np.bool_]
CHANCE = 0.05
"""Of what is called beyond chance, the share that is not, at the most."""
MOST_STRATA = 6
MOST_VALUES = 6
"""Values of a property that journeys are kept alike by, at the most."""
PLATFORMS = ("platform", "os", "device_os")


@dataclass(frozen=True)
class Side:
    """A figure of one group: a share (`count` of `of`) or a median in ms, its 95 % interval, and
    how many users it is of."""

    value: float
    low: float
    high: float
    count: int
    of: int
    users: int


@dataclass(frozen=True)
class Compared:
    """A figure of both groups, and the first less the second.

    `q` is what the difference would be called at the least as one of all that were looked at; it is
    `beyond` chance where that is small. `like` is the difference among like journeys; they
    `disagree` where one of the two tells a difference and the other none, or the contrary.
    `touched` are users of the first group whom it makes a difference to.
    """

    measure: str
    name: str
    figure: str
    says: str
    of: str
    timed: bool
    worse: int
    one: Side
    other: Side
    gap: Gap
    q: float | None
    beyond: bool
    like: Gap | None
    disagree: bool
    touched: float


@dataclass(frozen=True)
class Group:
    journeys: int
    users: int


@dataclass(frozen=True)
class Stratum:
    """Journeys that are alike in what the name says, of each group."""

    name: str
    one: int
    other: int


@dataclass(frozen=True)
class Comparison:
    """Journeys in both groups are left out. `looked_at` are figures with users enough to tell."""

    one: Group
    other: Group
    in_both: int
    looked_at: int
    strata: list[Stratum]
    figures: list[Compared]


def everything(study: Study, kept: Sequence[Asked] = ()) -> list[Asked]:
    """Every measure that has figures without being told of what, and the kept funnels and
    patterns."""
    chain = funnel.onboarding(study.app_map)
    spec = [Asked.of_funnel(chain, "Onboarding")] if chain else []
    plain = [Asked(name) for name in RATES if name not in ("funnel", "patterns")]
    return [one for one in [*plain, *spec, *kept] if _can_be_asked(study, one)]


def _can_be_asked(study: Study, asked: Asked) -> bool:
    """A kept one may name what the map has no more."""
    try:
        RATES[asked.measure](study, Scope(), **asked.params)
    except (PatternError, ValidationError):
        return False
    return True


class Sides(NamedTuple):
    """Two groups: values of the property `by`, or segments; the second may be all others ("")."""

    one: str
    other: str
    by: str = ""


def compare(study: Study, scope: Scope, sides: Sides, kept: Sequence[Asked] = ()) -> Comparison:
    """Both groups in every share and time of all measures, and of the kept funnels and patterns.

    Raises `KeyError` where there is no such value, `SegmentError` for what is no segment.
    """
    question = (scope, sides, repr(kept))
    found: Comparison = study.comparisons.of(
        question, lambda: _compare(study, scope, sides, everything(study, kept))
    )
    return found


def _compare(study: Study, scope: Scope, sides: Sides, asked: Sequence[Asked]) -> Comparison:
    inside = scope_mask(study, scope)
    one, other = masks_of(study, scope, sides)
    both = inside & one & other
    group = np.where(inside & one & ~both, 0, np.where(inside & other & ~both, 1, -1))
    names, stratum = _strata(study, scope, group, sides.by)
    size = len(names)
    within = np.where((group >= 0) & (stratum >= 0), group * size + stratum, -1)
    slots = [(group.astype("i8"), 2), *([(within.astype("i8"), 2 * size)] if size > 1 else [])]
    found: list[Compared] = []
    timed: list[tuple[Timed, Gap]] = []
    for told in ahead(counted(study, scope, asked, Ways.among(slots))):
        if isinstance(told, Times):
            ranks = gaps(told.of[0])
            both_have = ((one, ranks.at(cell)) for cell, one in enumerate(told.each))
            timed += [(one, gap) for one, gap in both_have if gap]
        else:
            found += _compared(told, size)
    found += study.at_once(partial(_compared_times, group=group), timed)
    one_group, other_group = (_group(study, group == code) for code in (0, 1))
    strata = [
        Stratum(name, int((within == i).sum()), int((within == size + i).sum()))
        for i, name in enumerate(names if size > 1 else [])
    ]
    looked_at = sum(row.gap.p is not None for row in found)
    in_both = int(both.sum())
    return Comparison(one_group, other_group, in_both, looked_at, strata, _judged(found))


def _group(study: Study, own: Mask) -> Group:
    return Group(int(own.sum()), count_users(study.index.user[own]))


def masks_of(study: Study, scope: Scope, sides: Sides) -> tuple[Mask, Mask]:
    """The journeys of each side, in scope or not."""
    if sides.by:
        groups = groups_of(study, scope, sides.by)
        one = groups.code == groups.number(sides.one)
        return one, (groups.code == groups.number(sides.other)) if sides.other else ~one
    one = segments.of(study, sides.one)
    return one, segments.of(study, sides.other) if sides.other else ~one


def _strata(
    study: Study, scope: Scope, group: NDArray[np.int64], by: str
) -> tuple[list[str], NDArray[np.int64]]:
    """What journeys are alike in: their platform, new or returning users, how they began. The most
    frequent combinations that both groups have; −1 for all others."""
    sorts: list[tuple[list[str], NDArray[np.int64]]] = []
    for name in PLATFORMS:
        values = study.property(name).values
        if name != by and 2 <= len(values) <= MOST_VALUES:
            groups = groups_of(study, scope, name)
            sorts.append(
                ([value or "not told" for value in groups.values], groups.code.astype("i8"))
            )
    user = study.index.user
    first = np.append(True, user[1:] != user[:-1])[: len(user)]
    sorts.append((["returning", "new"], first.astype("i8")))
    linked = study.joined(Wanted(start="link").mask)
    sorts.append((["", "by a link"], linked.astype("i8")))
    number = np.zeros(len(user), "i8")
    for words, code in sorts:
        number = number * len(words) + code
    if scope.unit == "users":
        number = _of_first(number, user, group)
    kinds, place = np.unique(number, return_inverse=True)
    sizes = [np.bincount(place[group == code], minlength=len(kinds)) for code in (0, 1)]
    common = np.argsort(-np.minimum(*sizes), kind="stable")[:MOST_STRATA]
    common = common[np.minimum(*sizes)[common] > 0]
    code = np.full(len(kinds), -1)
    code[common] = np.arange(len(common))
    return [_stratum(int(kinds[i]), sorts) for i in common], code[place]


def _of_first(
    number: NDArray[np.int64], user: NDArray[np.int32], group: NDArray[np.int64]
) -> NDArray[np.int64]:
    """That of the user's first journey in the group."""
    key = user.astype("i8") * 3 + group + 1
    _, first, own = np.unique(key, return_index=True, return_inverse=True)
    return np.asarray(number[first][own])


def _stratum(number: int, sorts: Sequence[tuple[list[str], NDArray[np.int64]]]) -> str:
    words = []
    for names, _ in reversed(sorts):
        number, code = divmod(number, len(names))
        words.append(names[code])
    return ", ".join(word for word in reversed(words) if word)


def _compared(told: Shares, strata: int) -> Iterator[Compared]:
    shares, apart = estimates(told.of[0]), gaps(told.of[0])
    within = gaps_within(told.of[1], strata) if strata > 1 else None
    for cell, figure in enumerate(told.figures):
        found = apart.at(cell)
        if found is None:
            continue
        one, other = (side_of(shares.at(cell, slot)) for slot in (0, 1))
        touched = abs(found.difference) * one.users
        alike = within if figure.measure not in ("start-up", "links") else None
        # What journeys begin with is what they are kept alike in.
        yield _row(figure, one, other, found, alike.at(cell) if alike else None, touched)


def _compared_times(told: tuple[Timed, Gap], group: NDArray[np.int64]) -> Compared:
    timed, ranks = told
    own = group[timed.at]
    left, right = (middle(timed.value[own == code], timed.user[own == code]) for code in (0, 1))
    assert left
    assert right
    sides, touched = (side_of_times(left), side_of_times(right)), abs(ranks.difference) * left.users
    return _row(timed.figure, *sides, between(left, right, ranks), None, touched)


def side_of(own: Estimate) -> Side:
    return Side(own.share, own.low, own.high, own.count, own.of, own.users)


def side_of_times(own: Middle) -> Side:
    return Side(own.median, own.low, own.high, own.of, own.of, own.users)


def _row(
    figure: Figure, one: Side, other: Side, found: Gap, like: Gap | None, touched: float
) -> Compared:
    row = partial(
        Compared,
        figure.measure,
        figure.name,
        figure.figure,
        figure.says,
        figure.of,
        figure.timed,
        figure.worse,
    )
    return row(one, other, found, None, False, like, False, touched)


def _judged(found: Sequence[Compared]) -> list[Compared]:
    """With what each difference is among all; those beyond chance first, then by users touched."""
    plain = _rates([one.gap for one in found])
    like = _rates([one.like for one in found])
    rows = [
        replace(
            one,
            q=None if one.gap.p is None else float(plain[i]),
            beyond=bool(plain[i] <= CHANCE),
            disagree=_disagree(one, plain[i], like[i]),
        )
        for i, one in enumerate(found)
    ]
    return sorted(rows, key=lambda one: (not one.beyond, -one.touched, one.figure))


def _rates(gaps: Sequence[Gap | None]) -> NDArray[np.float64]:
    """Of each what share of all that are as clear is false; 1 for those that are not told."""
    p = np.array([np.nan if one is None or one.p is None else one.p for one in gaps], "f8")
    told = ~np.isnan(p)
    found = np.ones(len(p))
    found[told] = adjusted(p[told]) if told.any() else 1.0
    return found


def _disagree(one: Compared, plain: float, like: float) -> bool:
    """Whether only one of the two differences is beyond chance, or both, but contrary; and by more
    than what chance makes of the plain one."""
    if one.like is None:
        return False
    signs = [
        np.sign(gap.difference) * (q <= CHANCE) for gap, q in ((one.gap, plain), (one.like, like))
    ]
    inside = one.gap.low <= one.like.difference <= one.gap.high
    return bool(signs[0] != signs[1]) and not inside
