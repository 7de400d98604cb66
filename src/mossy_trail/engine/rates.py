"""The shares and times of every measure, each told by what happened in which journeys.

A measure's figures are shares of something: exits of visits, tries that failed of tries. Here each
says so by its cells and the cells that they are of, so that users can be held apart, journeys be
sorted into groups or days, and chance be told from a difference, for all measures in one way.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial
from itertools import groupby
from typing import Any, Literal, NamedTuple, get_args

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.measures.cells import Cells, Grid, Naming, Words, added, cells, frequencies
from mossy_trail.core.measures.moments import (
    NO_DAYS,
    Chosen,
    Days,
    Moments,
    Sums,
    Ways,
    by_cell,
    in_ways,
    moments_of,
    summed,
    together,
    up_to,
)
from mossy_trail.core.model.log import NONE
from mossy_trail.core.model.scope import Scope
from mossy_trail.core.model.steps import Steps
from mossy_trail.core.stats.medians import median_of
from mossy_trail.engine.celled import figure_of
from mossy_trail.engine.registry import MEASURES
from mossy_trail.engine.scoped import each_inside
from mossy_trail.engine.study import Study

Mask = NDArray[np.bool_]
MOST = 200
"""Cells of a kind, those that happen most often, that are told of."""
MOST_TIMES = 40
"""The same of those whose times are told."""
FEWEST = 8
"""Times that a cell happens at least, to be told of."""
Said = Callable[[Words], Sequence[str]]
Counts = Literal["times", "journeys", "unit"]
Worse = Literal[-1, 0, 1]
"""Whether more (1) or less (−1) of it is worse, or neither."""


@dataclass(frozen=True)
class Rate:
    """Of one kind of cells how often each happened, of how often its base did.

    `says` and `of` are words for it, in which {0}, {1} … stand for the words of the cell. The base
    of a cell has its number divided by `width`. `counts` times, or journeys, or journeys or users
    as the scope does.
    """

    kind: str
    told: Cells
    base: Cells
    says: str
    of: str
    width: int = 1
    counts: Counts = "times"
    worse: Worse = 0
    figure: str = ""
    """Where it is not named by the kind and the words of the cell."""
    said: Said = tuple
    """What to say for the words of a cell."""
    norm: Mapping[str, float] = field(default_factory=dict)
    """By the first word of a cell, or "" for any: the share beyond which it stands out by itself,
    whoever's app it is, as there is no like to hold it against; see docs/findings.md."""
    like: str = ""
    """What its cells are some of, to be held against each other."""
    made_of: Any = None
    """What the base was made of: kinds of one are counted once."""

    def worded(self, name: Words) -> tuple[str, str]:
        """What is said of a cell, and of what."""
        return _worded(self, name)


@dataclass(frozen=True)
class Took:
    """How long things took, in milliseconds; shape (times,), those of −1 left out."""

    kind: str
    naming: Naming
    number: NDArray[np.int64]
    journey: NDArray[np.int64]
    value: NDArray[np.float64]
    says: str
    of: str
    worse: Worse = 0
    figure: str = ""
    said: Said = tuple

    def worded(self, name: Words) -> tuple[str, str]:
        """What is said of a cell, and of what."""
        return _worded(self, name)


def _worded(kind: Rate | Took, name: Words) -> tuple[str, str]:
    if kind.figure:
        return kind.says, kind.of
    said = kind.said(name)
    return kind.says.format(*said), kind.of.format(*said)


class Told(NamedTuple):
    """What a part tells; the same kinds in the same order in every part."""

    rates: list[Rate]
    times: list[Took]

    @property
    def size(self) -> int:
        """Bytes of memory that it takes."""
        cells = [side for rate in self.rates for side in (rate.told, rate.base)]
        columns: list[NDArray[Any]] = []
        columns += [column for one in cells for column in (one.number, one.journey)]
        columns += [column for one in self.times for column in (one.number, one.journey, one.value)]
        return sum({id(column): column.nbytes for column in columns}.values())


Asking = Callable[[Steps, Mask], Told]
RATES: dict[str, Callable[..., Asking]] = {}


def rates_of(measure: str) -> Callable[[Callable[..., Asking]], Callable[..., Asking]]:
    """Register a function of a study, a scope and the measure's parameters, that gives what is
    asked of each part."""

    def register(rates: Callable[..., Asking]) -> Callable[..., Asking]:
        RATES[measure] = rates
        return rates

    return register


def single(
    figure: str,
    told: NDArray[Any],
    base: NDArray[Any],
    says: str,
    of: str,
    worse: Worse = 0,
    counts: Counts = "times",
    norm: float | None = None,
    like: str = "",
) -> Rate:
    """A share by itself, of the journeys in which it happened and those in which it could."""
    norms = {} if norm is None else {"": norm}
    sides = _alone(told), _alone(base)
    return Rate(
        figure, *sides, says, of, 1, counts, worse, figure, norm=norms, like=like, made_of=base
    )


def single_time(
    figure: str,
    journey: NDArray[Any],
    micros: NDArray[Any],
    says: str,
    of: str,
    worse: Worse = 0,
) -> Took:
    """Times by themselves, in microseconds."""
    number = np.zeros(len(journey), "i8")
    return Took(figure, Grid([""]), number, journey, micros / 1000, says, of, worse, figure)


def _alone(journey: NDArray[Any]) -> Cells:
    return cells(Grid([""]), np.zeros(len(journey), "i8"), journey)


def in_scope(inside: Mask) -> Cells:
    """The journeys in scope, as the base of what happens in some of them."""
    return _alone(np.flatnonzero(inside))


@dataclass(frozen=True)
class Asked:
    """A measure with its parameters; `name` says which of several, such as that of a funnel."""

    measure: str
    params: Mapping[str, Any] = field(default_factory=dict)
    name: str = ""

    @classmethod
    def of_funnel(cls, document: Mapping[str, Any], name: str) -> Asked:
        return cls("funnel", {"spec": json.dumps(document)}, name)


@dataclass(frozen=True)
class Figure:
    """A share or a time of a measure: the address of its journeys, and words for it."""

    measure: str
    figure: str
    says: str
    of: str
    worse: int
    timed: bool
    name: str = ""
    norm: float | None = None
    """The share beyond which it stands out by itself."""
    like: str = ""
    """What it is one of, to be held against the others: “screens of onboarding”."""
    subject: str = ""
    """The screen or tab that it is of."""


@dataclass(frozen=True, eq=False)
class Series:
    """Per journey of the index what a figure counts, and of what; of times instead, in order, each
    one's journey and value (ms)."""

    says: str
    of: str
    count: NDArray[np.int64]
    base: NDArray[np.int64]
    by_user: bool
    """Users count, each once."""
    at: NDArray[np.int64] | None = None
    took: NDArray[np.float64] | None = None
    has_time: bool = False


def series_in(study: Study, kind: Sequence[Rate], number: int, users: bool) -> Series:
    """What a cell counts in each journey, and of what, given its kind as each part tells it."""
    one = kind[0]

    def ask(place: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        own, size = kind[place], int(np.diff(study.edges[place : place + 2])[0])
        told = own.told.in_journeys(number, size)
        return told, own.base.in_journeys(number // own.width, size)

    sides = study.at_once(ask, range(len(kind)))
    none = np.zeros(0, "i8")
    count, base = (np.concatenate([none, *side]) for side in zip(*sides, strict=True))
    if one.counts != "times":
        count, base = np.minimum(count, 1), np.minimum(base, 1)
    says, of = one.worded(one.told.naming.name(number))
    return Series(says, of, count, base, one.counts == "unit" and users)


def timed_series(study: Study, kind: Sequence[Took], number: int) -> Series:
    """How long things of a cell took, and in which journeys."""
    at = [own.journey[own.number == number] + study.edges[i] for i, own in enumerate(kind)]
    took = [own.value[own.number == number] for own in kind]
    where, value = np.concatenate(at).astype("i8"), np.concatenate(took)
    known = np.flatnonzero(value >= 0)
    order = known[np.argsort(value[known], kind="stable")]
    says, of = kind[0].worded(kind[0].naming.name(number))
    none = np.zeros(0, "i8")
    return Series(says, of, none, none, False, where[order], value[order])


def sums_of(study: Study, series: Series, slot: NDArray[np.int64], slots: int) -> Moments:
    """The sums of a figure by itself, of the journeys in each slot."""
    own = np.flatnonzero((slot >= 0) & (series.base > 0))
    users, place = np.unique(study.index.user[own], return_inverse=True)
    at = place * slots + slot[own]
    shape = (1, len(users), slots)

    def table(values: NDArray[np.int64]) -> NDArray[np.float64]:
        found = np.bincount(at, values[own], len(users) * slots).reshape(shape)
        return np.minimum(found, 1) if series.by_user else found.astype("f8")

    return moments_of(table(series.count), table(series.base), np.zeros(1, "i8"))


class Shares(NamedTuple):
    """Shares of one kind: their sums, of each way to sort journeys into slots; and what each counts
    in the journeys, by its place; and in which journeys some happened, by their places."""

    figures: list[Figure]
    of: tuple[Moments, ...]
    series: Callable[[int], Series]
    having: Callable[[Sequence[int]], dict[int, Mask]]
    by_day: tuple[NDArray[np.int64], NDArray[np.int64]]
    """How often each was on each day that was asked for, and of how many; shape (figures, days)."""


class Timed(NamedTuple):
    """Times, in milliseconds and in order; of each a number for its user, and its place in the
    study's index."""

    figure: Figure
    value: NDArray[np.float64]
    user: NDArray[np.int64]
    at: NDArray[np.int64]


class Times(NamedTuple):
    """Times of one kind, of the journeys that the first way sorts; and of each the sums of those up
    to the median of all, among all, as of shares: so ranks are held against each other."""

    each: list[Timed]
    of: tuple[Moments, ...]


def counted(
    study: Study,
    scope: Scope,
    asked: Sequence[Asked],
    ways: Ways,
    days: Days = NO_DAYS,
) -> Iterator[Shares | Times]:
    """Every share and time of the measures that are asked, the most frequent of each kind."""
    for one in asked:
        told = told_by(study, scope, one)
        if told:
            parts = [own.rates for own in told]
            yield from _shares(study, scope, one, parts, ways, days)
            yield from _times(study, one, [own.times for own in told], ways)


def told_by(study: Study, scope: Scope, asked: Asked) -> list[Told]:
    """What each part tells of a measure; kept, as other groups are asked for later.

    Raises `ValidationError` for parameters that cannot be used.
    """
    given = MEASURES[asked.measure].params(**asked.params).model_dump()

    def ask() -> list[Told]:
        return each_inside(study, scope, RATES[asked.measure](study, scope, **given))

    found: list[Told] = study.told.of((scope, asked.measure, repr(given)), ask)
    return found


def _shares(
    study: Study,
    scope: Scope,
    asked: Asked,
    parts: Sequence[Sequence[Rate]],
    ways: Ways,
    days: Days,
) -> Iterator[Shares]:
    """Those that count times together, and those that count journeys: it takes few steps so."""
    by_users = scope.unit == "users"
    every = [_Kind.of(rates) for rates in zip(*parts, strict=True)]
    for counts in get_args(Counts):
        kinds = [kind for kind in every if kind.rates[0].counts == counts and len(kind.chosen)]
        if not kinds:
            continue
        layout = _Layout.of(kinds)
        ask = partial(_summed, study, kinds, layout, ways, days, counts == "unit" and by_users)
        sums = together(study.at_once(ask, range(len(study.parts))))
        moments = tuple(in_ways(sums, layout.base_of, ways))
        count, base = sums.by_day
        at = [(kind, number) for kind in kinds for number in kind.chosen.tolist()]
        figures = [
            _figure(asked, kind.rates[0], kind.rates[0].told.naming.name(number))
            for kind, number in at
        ]
        series = partial(_series_at, study, at, by_users)
        having = partial(_having_at, study, at)
        yield Shares(figures, moments, series, having, (count, base[layout.base_of]))


class _Kind(NamedTuple):
    """A kind as each part tells it, and the numbers of its cells that are looked at."""

    rates: tuple[Rate, ...]
    chosen: NDArray[np.int64]

    @classmethod
    def of(cls, rates: tuple[Rate, ...]) -> _Kind:
        sizes = [(one.told.naming.size, one.told.number) for one in rates]
        return cls(rates, _most_frequent(sizes))


def _series_at(study: Study, at: Sequence[tuple[_Kind, int]], users: bool, place: int) -> Series:
    kind, number = at[place]
    return series_in(study, kind.rates, number, users)


def _having_at(
    study: Study, at: Sequence[tuple[_Kind, int]], places: Sequence[int]
) -> dict[int, Mask]:
    """One pass through each kind, for all of its cells that are asked for."""
    found: dict[int, Mask] = {}
    for _, some in groupby(sorted(set(places)), lambda place: id(at[place][0])):
        own = list(some)
        kind, numbers = at[own[0]][0], np.array([at[place][1] for place in own])

        def ask(part: int, kind: _Kind = kind, numbers: NDArray[np.int64] = numbers) -> Mask:
            size = int(np.diff(study.edges[part : part + 2])[0])
            return kind.rates[part].told.having(numbers, size)

        masks = np.concatenate(study.at_once(ask, range(len(study.parts))), axis=1)
        found |= dict(zip(own, masks, strict=True))
    return found


class _Layout(NamedTuple):
    """Which bases there are, each by the kind that tells it and its numbers, and the place of each
    cell's. Kinds of one base have one table of it."""

    bases: list[tuple[_Kind, NDArray[np.int64]]]
    base_of: NDArray[np.int64]

    @classmethod
    def of(cls, kinds: Sequence[_Kind]) -> _Layout:
        known: dict[tuple[int, bytes], tuple[int, _Kind, NDArray[np.int64]]] = {}
        base_of, size = [], 0
        for kind in kinds:
            numbers, of = np.unique(kind.chosen // kind.rates[0].width, return_inverse=True)
            first_part = kind.rates[0]
            whole = first_part.base if first_part.made_of is None else first_part.made_of
            key = (id(whole), numbers.tobytes())
            first, *_ = known.setdefault(key, (size, kind, numbers))
            size = max(size, first + len(numbers))
            base_of.append(of + first)
        return cls(
            [(kind, numbers) for _, kind, numbers in known.values()], np.concatenate(base_of)
        )


def _summed(
    study: Study,
    kinds: Sequence[_Kind],
    layout: _Layout,
    ways: Ways,
    days: Days,
    once_a_user: bool,
    place: int,
) -> Sums:
    """The sums of a part."""
    here = slice(*study.edges[place : place + 2])
    told = [Chosen(kind.rates[place].told, kind.chosen) for kind in kinds]
    base = [Chosen(kind.rates[place].base, numbers) for kind, numbers in layout.bases]
    return summed(
        told,
        base,
        layout.base_of,
        study.users[place],
        ways.of_part(here),
        days.of_part(here),
        kinds[0].rates[place].counts != "times",
        once_a_user,
    )


def _times(
    study: Study,
    asked: Asked,
    parts: Sequence[Sequence[Took]],
    ways: Ways,
) -> Iterator[Times]:
    first = np.append(ways.slot[0], NONE)[ways.of]
    for kind in zip(*parts, strict=True):
        chosen = _most_frequent([(one.naming.size, one.number) for one in kind], MOST_TIMES)
        number = np.concatenate([one.number for one in kind])
        value = np.concatenate([one.value for one in kind])
        at = np.concatenate(
            [one.journey + study.edges[place] for place, one in enumerate(kind)]
        ).astype("i8")
        value = np.where(first[at] >= 0, value, -1)
        order, begin = by_cell(number, value, chosen)
        told = partial(_timed, study, asked, kind[0], value, at)
        own = [order[slice(*begin[i : i + 2])] for i in range(len(chosen))]
        cells = [(cell, some) for cell, some in zip(chosen.tolist(), own, strict=True) if len(some)]
        each = study.at_once(told, cells)
        if each:
            medians = np.array([median_of(one.value) for one in each])
            ask = partial(_up_to, study, kind, np.array([cell for cell, _ in cells]), medians, ways)
            sums = together(study.at_once(ask, range(len(study.parts))))
            yield Times(each, tuple(in_ways(sums, np.arange(len(each)), ways)))


def _timed(
    study: Study,
    asked: Asked,
    kind: Took,
    value: NDArray[np.float64],
    at: NDArray[np.int64],
    own: tuple[int, NDArray[np.int64]],
) -> Timed:
    """Those of a cell, which stand where is said, in order."""
    cell, place = own
    place = place[np.argsort(value[place])]
    user = study.index.user[at[place]]
    figure = _figure(asked, kind, kind.naming.name(cell))
    return Timed(figure, value[place], _numbered(user), at[place])


def _numbered(user: NDArray[np.int32]) -> NDArray[np.int64]:
    """Users by numbers from 0 without gaps, in the order of the study's."""
    there = np.zeros(int(user.max()) + 1, bool)
    there[user] = True
    return (np.cumsum(there) - 1)[user]


def _up_to(
    study: Study,
    kind: Sequence[Took],
    cells: NDArray[np.int64],
    limits: NDArray[np.float64],
    ways: Ways,
    place: int,
) -> Sums:
    """Of a part, the times of each cell up to its limit, of all of them."""
    took, here = kind[place], slice(*study.edges[place : place + 2])
    below, all_ = up_to(took.number, took.value, took.journey, cells, limits)
    users, own = study.users[place], ways.of_part(here)
    return summed(below, all_, np.arange(len(cells)), users, own)


def _most_frequent(
    parts: Sequence[tuple[int, NDArray[np.int64]]], most: int = MOST
) -> NDArray[np.int64]:
    """The numbers that occur most often, in order."""
    total = added([frequencies(number, size) for size, number in parts])
    some = np.flatnonzero(total.times >= FEWEST)
    first = some[np.argsort(-total.times[some], kind="stable")[:most]]
    return np.sort(total.number[first])


def _figure(asked: Asked, kind: Rate | Took, words: Words) -> Figure:
    says, of = kind.worded(words)
    return Figure(
        asked.measure,
        kind.figure or figure_of((kind.kind, *words)),
        says,
        of,
        kind.worse,
        isinstance(kind, Took),
        asked.name,
        None if isinstance(kind, Took) else kind.norm.get(words[0], kind.norm.get("")),
        "" if isinstance(kind, Took) else kind.like,
        words[0] if len(words) == 1 else "",
    )


def document(**parts: Any) -> str:
    """The document that names a figure."""
    return json.dumps(parts, ensure_ascii=False)
