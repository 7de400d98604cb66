"""Drop-offs: where journeys end, found against expected, and what each screen costs a goal."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.measures import dropoffs as core
from mossy_trail.core.measures.cells import Frequencies, added
from mossy_trail.core.model.scope import Scope
from mossy_trail.core.model.steps import EXITS, Steps
from mossy_trail.core.stats.intervals import Share, share
from mossy_trail.engine.celled import (
    Count,
    Counts,
    Labels,
    Mask,
    Tallies,
    figure_of,
    journeys_of,
    journeys_of_each,
    name_of,
    tallied,
)
from mossy_trail.engine.rates import Asking, Rate, Told, rates_of
from mossy_trail.engine.registry import GoalParams, evidence_of, measure_of
from mossy_trail.engine.scoped import each_labelled, joined_inside, scope_mask
from mossy_trail.engine.study import Study

MOST_WAYS = 6


@dataclass(frozen=True)
class DropOff:
    """A screen: its visits and exits, the true ones against those to be expected, by kind, by what
    came last; and the `weight`: points that reaching the goal would gain if it lost no one."""

    screen: str
    visits: Count
    exits: Count
    rate: Share
    true: Count
    expected: float
    excess: float
    kinds: dict[str, Count]
    why: dict[str, Count]
    moves: dict[str, Count]
    before: dict[str, Count]
    weight: float | None


@dataclass(frozen=True)
class Survivors:
    """Journeys that have so many steps, or last so many seconds, at least."""

    mark: int
    journeys: int
    figure: str


@dataclass(frozen=True)
class DropOffFigures:
    in_scope: int
    ended: int
    """Journeys that ended, so without those that the log's end cut off."""
    screens: list[DropOff]
    by_steps: list[Survivors]
    by_time: list[Survivors]
    goal: str
    goal_chance: float | None


class _Told(NamedTuple):
    """What a part says of its journeys."""

    cells: Tallies
    steps: Frequencies
    exits: Frequencies
    moves: Frequencies | None
    going: tuple[NDArray[np.int64], ...]


@measure_of("drop-offs", GoalParams)
def measure(study: Study, scope: Scope, goal: str = "") -> DropOffFigures:
    """Where journeys end, found against expected, and what each screen costs a goal.

    Screens come first whose exits are furthest beyond what is to be expected, in units of chance.
    """
    names = study.parts[0].places.names if study.parts else []
    if goal and goal not in names:
        raise KeyError(goal)
    told = each_labelled(study, scope, "drop-offs", _label, partial(_ask, weighed=bool(goal)))
    counts, inside = Counts([part.cells for part in told]), scope_mask(study, scope)
    chance, weights = _weights(told, names, goal) if goal else (None, None)
    expected = _expected(told, len(names))
    code = {name: i for i, name in enumerate(names)}
    screens = [
        _screen(counts, name, expected[code[name]], weights[code[name]] if weights else None)
        for (name,) in counts.all("visits")
    ]
    screens.sort(key=lambda one: (-one.excess / max(one.expected, 1) ** 0.5, one.screen))
    ended = sum(one.exits.times for one in screens)
    by_steps, by_time = _survivors([part.going for part in told])
    return DropOffFigures(int(inside.sum()), ended, screens, by_steps, by_time, goal, chance)


def _ask(steps: Steps, inside: Mask, labelled: tuple[Labels, core.Ends], weighed: bool) -> _Told:
    labels, found = labelled
    return _Told(
        tallied(steps, labels),
        *core.grouped(steps, inside, found),
        core.transitions(steps, inside, found) if weighed else None,
        tuple(core.survivors(steps, inside, kind) for kind in core.MARKS),
    )


def _expected(told: Sequence[_Told], screens: int) -> NDArray[np.float64]:
    if not told:
        return np.zeros(screens)
    steps, exits = added([part.steps for part in told]), added([part.exits for part in told])
    return core.expected(steps, exits, screens)


def _survivors(parts: Sequence[tuple[NDArray[np.int64], ...]]) -> list[list[Survivors]]:
    """By steps, and by time."""
    found = []
    for i, (kind, marks) in enumerate(core.MARKS.items()):
        counts = sum((part[i] for part in parts), np.zeros(len(marks), "i8")).tolist()
        figures = (figure_of((kind, str(mark))) for mark in marks)
        found.append(list(map(Survivors, marks, counts, figures)))
    return found


def _weights(
    told: Sequence[_Told], names: list[str], goal: str
) -> tuple[float | None, list[float] | None]:
    moves = [part.moves for part in told if part.moves]
    pairs = core.pairs(added(moves), len(names)) if moves else {}
    if not pairs:
        return None, None
    chance, gains = core.weights(pairs, names.index(goal), len(names))
    return chance, gains.tolist()


def _screen(counts: Counts, name: str, expected: float, weight: float | None) -> DropOff:
    visits, exits, true = (counts.of(kind, name) for kind in ("visits", "exits", "true"))

    def of(kind: str) -> dict[str, Count]:
        some = list(counts.under(kind, name).items())[:MOST_WAYS]
        return {word: count for (word,), count in some}

    return DropOff(
        name,
        visits,
        exits,
        share(exits.times, visits.times),
        true,
        float(expected),
        true.times - float(expected),
        {kind: counts.of("exit", name, kind) for kind in EXITS if kind != "cut"},
        of("why"),
        of("last"),
        of("from"),
        weight,
    )


@evidence_of("drop-offs")
def evidence(study: Study, scope: Scope, figure: str) -> Mask:
    kind, *words = name_of(figure)
    if kind not in core.MARKS:
        return journeys_of(study, scope, "drop-offs", _label, figure)
    if len(words) != 1 or words[0] not in map(str, core.MARKS[kind]):
        raise KeyError(figure)
    mark = int(words[0])
    return joined_inside(study, scope, lambda s, i: core.still_going(s, i, kind, mark))


def ended_for_good(study: Study, scope: Scope, screens: Sequence[str]) -> NDArray[np.bool_]:
    """The journeys that ended for good on each screen; shape (screens, journeys)."""
    figures = [figure_of(("true", screen)) for screen in screens]
    return journeys_of_each(study, scope, "drop-offs", _label, figures)


def _label(steps: Steps, inside: Mask) -> tuple[Labels, core.Ends]:
    found = core.ends(steps, inside)
    return core.label(steps, inside, found), found


@rates_of("drop-offs")
def rates(study: Study, scope: Scope, goal: str = "") -> Asking:
    """Exits of visits, by screen."""

    def ask(steps: Steps, inside: Mask) -> Told:
        labels, _ = _label(steps, inside)
        visits = labels["visits"]
        words = "visits of {0}"
        return Told(
            [
                Rate("exits", labels["exits"], visits, "ended on {0}", words, worse=1),
                Rate("true", labels["true"], visits, "ended for good on {0}", words),
            ],
            [],
        )

    return ask
