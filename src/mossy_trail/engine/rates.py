"""The shares and times of every measure, each told by what happened in which journeys.

A measure's figures are shares of something: exits of visits, tries that failed of tries. Here each
says so by its cells and the cells that they are of, so that users can be held apart, journeys be
sorted into groups or days, and chance be told from a difference, for all measures in one way.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.measures.cells import Cells, Grid, Naming, Words, added, cells, frequencies
from mossy_trail.core.measures.moments import Moments, Slots, each_once, moments, plus
from mossy_trail.core.model.scope import Scope
from mossy_trail.core.model.steps import Steps
from mossy_trail.engine.celled import figure_of
from mossy_trail.engine.scoped import each_inside
from mossy_trail.engine.study import Study

Mask = NDArray[np.bool_]
MOST = 200
"""Cells of a kind, those that happen most often, that are told of."""
FEWEST = 8
"""Times that a cell happens at least, to be told of."""
Said = Callable[[Words], Sequence[str]]
Worse = Literal[-1, 0, 1]
"""Whether more (1) or less (−1) of it is worse, or neither."""


@dataclass(frozen=True)
class Rate:
    """Of one kind of cells how often each happened, of how often its base did.

    `says` and `of` are words for it, in which {0}, {1} … stand for the words of the cell. The base
    of a cell has its number divided by `width`. With `once`, journeys count (or users).
    """

    kind: str
    told: Cells
    base: Cells
    says: str
    of: str
    width: int = 1
    once: bool = False
    worse: Worse = 0
    figure: str = ""
    """Where it is not named by the kind and the words of the cell."""
    said: Said = tuple
    """What to say for the words of a cell."""

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
    once: bool = False,
) -> Rate:
    """A share by itself, of the journeys in which it happened and those in which it could."""
    return Rate(figure, _alone(told), _alone(base), says, of, 1, once, worse, figure)


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


class Counted(NamedTuple):
    """A share: its sums, of each way to sort journeys into slots."""

    figure: Figure
    of: tuple[Moments, ...]
    cell: int


class Timed(NamedTuple):
    """Times, in milliseconds, with the user and the place in the study's index of each."""

    figure: Figure
    value: NDArray[np.float64]
    user: NDArray[np.int64]
    at: NDArray[np.int64]


def counted(
    study: Study,
    scope: Scope,
    asked: Sequence[Asked],
    sorted_into: Sequence[tuple[NDArray[np.int64], int]],
) -> Iterator[Counted | Timed]:
    """Every share and time of the measures that are asked, the most frequent of each kind.

    Parameters
    ----------
    sorted_into : ways to sort the journeys of the index into slots, −1 for none, and how many slots
        each has.
    """
    for one in asked:
        ask = RATES[one.measure](study, scope, **one.params)
        told = each_inside(study, scope, ask)
        if told:
            yield from _shares(study, scope, one, [own.rates for own in told], sorted_into)
            yield from _times(study, one, [own.times for own in told])


def _shares(
    study: Study,
    scope: Scope,
    asked: Asked,
    parts: Sequence[Sequence[Rate]],
    sorted_into: Sequence[tuple[NDArray[np.int64], int]],
) -> Iterator[Counted]:
    by_users = scope.unit == "users"
    for kind in zip(*parts, strict=True):
        chosen = _most_frequent([(one.told.naming.size, one.told.number) for one in kind])
        if not len(chosen):
            continue

        def ask(
            place: int, kind: Sequence[Rate] = kind, chosen: NDArray[np.int64] = chosen
        ) -> tuple[Moments, ...]:
            own, steps = kind[place], study.parts[place]
            here = slice(*study.edges[place : place + 2])
            told, base = own.told, own.base
            if own.once:
                size = len(steps.journeys.start)
                told, base = each_once(told, size), each_once(base, size)
            return tuple(
                moments(
                    told,
                    base,
                    own.width,
                    chosen,
                    steps.journeys.user,
                    Slots(slot[here], own.once and by_users, size),
                )
                for slot, size in sorted_into
            )

        sums = tuple(plus(way) for way in zip(*study.each_place(ask), strict=True))
        for cell, number in enumerate(chosen.tolist()):
            figure = _figure(asked, kind[0], kind[0].told.naming.name(number))
            yield Counted(figure, sums, cell)


def _times(study: Study, asked: Asked, parts: Sequence[Sequence[Took]]) -> Iterator[Timed]:
    for kind in zip(*parts, strict=True):
        chosen = _most_frequent([(one.naming.size, one.number) for one in kind])
        number = np.concatenate([one.number for one in kind])
        value = np.concatenate([one.value for one in kind])
        at = np.concatenate(
            [one.journey + study.edges[place] for place, one in enumerate(kind)]
        ).astype("i8")
        for cell in chosen.tolist():
            own = (number == cell) & (value >= 0)
            if own.any():
                figure = _figure(asked, kind[0], kind[0].naming.name(cell))
                yield Timed(figure, value[own], study.index.user[at[own]].astype("i8"), at[own])


def _most_frequent(parts: Sequence[tuple[int, NDArray[np.int64]]]) -> NDArray[np.int64]:
    """The numbers that occur most often, in order."""
    total = added([frequencies(number, size) for size, number in parts])
    some = np.flatnonzero(total.times >= FEWEST)
    most = some[np.argsort(-total.times[some], kind="stable")[:MOST]]
    return np.sort(total.number[most])


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
    )


def document(**parts: Any) -> str:
    """The document that names a figure."""
    return json.dumps(parts, ensure_ascii=False)
