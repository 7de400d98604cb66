"""Loops, ways back, and screens that people do not get out of."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.measures.cells import Words
from mossy_trail.core.measures.loops import KINDS, Cycles, Loops, label, loops, numbers_of
from mossy_trail.core.measures.moments import ALL
from mossy_trail.core.model.scope import Scope
from mossy_trail.core.model.steps import Steps
from mossy_trail.core.stats.intervals import Quartiles, Share, quartiles, share
from mossy_trail.engine.celled import (
    Count,
    Counts,
    Labels,
    Mask,
    Tallies,
    figure_of,
    journeys_of,
    tallied,
)
from mossy_trail.engine.rates import Asking, Rate, Told, Took, Worse, in_scope, rates_of
from mossy_trail.engine.registry import evidence_of, measure_of
from mossy_trail.engine.scoped import alone, each_labelled, scope_mask
from mossy_trail.engine.study import JourneyRef, Study

MOST = 200
"""Loops that are told of, at the most."""


@dataclass(frozen=True)
class Loop:
    """A cycle of screens: how often it was walked, its turns, and its time in ms; how often the
    journey `ended` with it, and went on `beyond` its screens."""

    kind: Literal[KINDS]  # type: ignore[valid-type]
    screens: list[str]
    count: Count
    turns: Quartiles | None
    most_turns: int
    took: Quartiles | None
    ended: Count
    beyond: Count


@dataclass(frozen=True)
class LoopScreen:
    """A screen: visits, left by going back, of that in under 3 s, and what else is odd about it."""

    name: str
    visits: Count
    backs: Count
    back_share: Share
    mistake: Count
    dead_end: Count
    stuck: Count
    piled: Count


@dataclass(frozen=True)
class LoopFigures:
    in_scope: int
    loops: list[Loop]
    loops_left_out: int
    kinds: dict[str, Count]
    screens: list[LoopScreen]
    backs: Share
    went_back: Count
    deepest: Quartiles | None
    most_deep: int


@measure_of("loops")
def measure(study: Study, scope: Scope) -> LoopFigures:
    """Loops by kind, ways back, and screens that people do not get out of."""
    asked = each_labelled(study, scope, "loops", label, _asked)
    counts = Counts([told for told, _ in asked])
    found = _loops(study, counts, [own for _, own in asked])
    screens = [_screen(counts, name) for (name,) in counts.all("visits")]
    inside = scope_mask(study, scope)
    deep = study.index.deepest[inside]
    backs = sum(one.backs.times for one in screens)
    visits = sum(one.visits.times for one in screens)
    return LoopFigures(
        int(inside.sum()),
        found,
        counts.size("loop") - len(found),
        {kind: counts.of("kind", kind) for kind in KINDS},
        screens,
        share(backs, visits),
        counts.of("went_back", ""),
        quartiles(deep),
        int(deep.max(initial=0)),
    )


def _asked(
    steps: Steps, inside: Mask, labelled: tuple[Labels, Loops]
) -> tuple[Tallies, tuple[NDArray[Any], ...]]:
    """The counts of a part, and each loop's number, turns and time."""
    labels, own = labelled
    return tallied(steps, labels), (numbers_of(own), own.turns, own.took)


def _loops(study: Study, counts: Counts, walked: Sequence[tuple[NDArray[Any], ...]]) -> list[Loop]:
    """The loops that were walked most often."""
    told = counts.all("loop", MOST)
    if not told:
        return []
    cycles = Cycles(study.parts[0].places.names)
    numbers = np.array([cycles.number(name) for name in told])
    among = study.at_once(partial(_among, numbers=numbers), walked)
    which, turns, took = (np.concatenate(column) for column in zip(*among, strict=True))
    by_loop = np.argsort(which, kind="stable")
    edges = np.searchsorted(which[by_loop], np.arange(len(told) + 1))
    found = []
    for (kind, *screens), first, end in zip(told, edges, edges[1:], strict=False):
        own = by_loop[first:end]
        found.append(
            Loop(
                kind,
                screens,
                told[kind, *screens],
                quartiles(turns[own]),
                int(turns[own].max()),
                quartiles(took[own]),
                counts.of("ended", kind, *screens),
                counts.of("beyond", kind, *screens),
            )
        )
    return found


def _among(walked: tuple[NDArray[Any], ...], numbers: NDArray[np.int64]) -> tuple[Any, ...]:
    """Of the loops with these numbers each one's place among them, its turns and its time in ms."""
    number, turns, took = walked
    order = np.argsort(numbers)
    place = np.minimum(np.searchsorted(numbers[order], number), len(numbers) - 1)
    own = np.flatnonzero(numbers[order][place] == number)
    return order[place[own]].astype("i2"), turns[own], took[own] / 1000


def _screen(counts: Counts, name: str) -> LoopScreen:
    kinds = ("mistake", "dead_end", "stuck", "piled")
    visits, backs = counts.of("visits", name), counts.of("backs", name)
    rest = (counts.of(kind, name) for kind in kinds)
    return LoopScreen(name, visits, backs, share(backs.times, visits.times), *rest)


@dataclass(frozen=True)
class Round:
    """A loop of one journey; its steps are numbered from 1, and `last` is back at its start."""

    figure: str
    kind: str
    screens: list[str]
    turns: int
    first: int
    last: int


def of_journey(study: Study, ref: JourneyRef) -> list[Round]:
    """The loops of a journey, in order."""
    steps = study.parts[ref.part]
    found, cycles = loops(steps, alone(steps, ref.number)), Cycles(steps.places.names)
    begin = int(steps.journeys.first_step[ref.number]) - 1
    names = [cycles.name(number) for number in numbers_of(found).tolist()]
    spans = zip(names, found.turns.tolist(), found.first.tolist(), found.last.tolist(), strict=True)
    return [
        Round(
            figure_of(("loop", *name)), name[0], list(name[1:]), turns, first - begin, last - begin
        )
        for name, turns, first, last in spans
    ]


@evidence_of("loops")
def evidence(study: Study, scope: Scope, figure: str) -> Mask:
    return journeys_of(study, scope, "loops", label, figure)


KIND_WORDS = {
    "ping_pong": "back and forth",
    "detour": "a detour and back",
    "piled_up": "onward to a new copy",
    "tab_flip": "between tabs",
    "by_tab": "back by choosing a tab",
    "redirect_loop": "sent round by redirects",
    "sent_again": "sent back by a redirect",
}


@rates_of("loops")
def rates(study: Study, scope: Scope) -> Asking:
    """Shares of journeys with a loop, of visits that were left by going back, and of odd ones."""
    odd: tuple[tuple[str, str, Worse, float], ...] = (
        ("backs", "went back from {0}", 0, 1),
        ("mistake", "went back within 3 s from {0}", 1, 1),
        ("dead_end", "ended, with no way out, on {0}", 1, 0.05),
        ("stuck", "were stuck on {0}", 1, 0.02),
        ("piled", "piled up another copy of {0}", 1, 0.02),
    )

    def ask(steps: Steps, inside: Mask) -> Told:
        labels, own = label(steps, inside)
        sessions, walked = in_scope(inside), labels["loop"]
        return Told(
            [
                *(
                    Rate(kind, labels[kind], labels["visits"], says, "visits of {0}", worse=worse,
                         norm={"": norm})
                    for kind, says, worse, norm in odd
                ),
                Rate("kind", labels["kind"], sessions, "walked a loop, {0}", scope.unit, ALL,
                     counts="unit", worse=1, said=lambda name: [KIND_WORDS[name[0]]],
                     norm={"redirect_loop": 0.001}),
                Rate("loop", walked, sessions, "walked {0}, {1}", scope.unit, ALL, counts="unit",
                     worse=1, said=loop_words, norm={"redirect_loop": 0.001}),
                Rate("ended", labels["ended"], walked, "ended with {0}, {1}", "loops {0}", worse=1,
                     said=loop_words),
            ],
            [Took("loop", walked.naming, walked.number, walked.journey.astype("i8"),
                  own.took / 1000, "in {0}, {1}", "loops", said=loop_words)],
        )  # fmt: skip

    return ask


def loop_words(name: Words) -> list[str]:
    """The cycle until it closes, and its kind."""
    kind, *screens = name
    return [" → ".join([*screens, *screens[:1]]), KIND_WORDS[kind]]
