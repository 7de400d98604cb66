"""Drop-offs: where journeys end, found against expected, and what each screen costs a goal."""

from __future__ import annotations

from collections import Counter
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.measures import dropoffs as core
from mossy_trail.core.scope import Scope
from mossy_trail.core.stats import Share, share
from mossy_trail.core.steps import EXITS
from mossy_trail.engine.celled import Count, counted, journeys_of
from mossy_trail.engine.evidence import evidence_of
from mossy_trail.engine.scoped import each_inside, scope_mask
from mossy_trail.engine.study import Study

MOST_STEPS = 40
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
class DropOffFigures:
    in_scope: int
    ended: int
    """Journeys that ended, so without those that the log's end cut off."""
    screens: list[DropOff]
    survivors: list[int]
    goal: str
    goal_chance: float | None

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


def measure(study: Study, scope: Scope, goal: str = "") -> DropOffFigures:
    """Screens first whose exits are furthest beyond what is to be expected, in units of chance."""
    names = study.parts[0].places.names if study.parts else []
    if goal and goal not in names:
        raise KeyError(goal)
    counts = counted(study, scope, core.label)
    groups: Counter[Any] = Counter()
    exits: Counter[Any] = Counter()
    for part in each_inside(study, scope, core.grouped):
        for key, (steps, left) in part.items():
            groups[key] += steps
            exits[key] += left
    expected = core.expected({key: (n, exits[key]) for key, n in groups.items()}, len(names))
    chance, weights = _weights(study, scope, names, goal) if goal else (None, None)
    code = {name: i for i, name in enumerate(names)}
    screens = [
        _screen(counts, name, expected[code[name]], weights[code[name]] if weights else None)
        for (name,) in counts.under("visits")
    ]
    screens.sort(key=lambda one: (-one.excess / max(one.expected, 1) ** 0.5, one.screen))
    inside = scope_mask(study, scope)
    alive = sum(
        each_inside(study, scope, lambda s, i: core.survivors(s, i, MOST_STEPS)),
        np.zeros(MOST_STEPS, "i8"),
    )
    ended = sum(one.exits.times for one in screens)
    return DropOffFigures(int(inside.sum()), ended, screens, alive.tolist(), goal, chance)


def _weights(
    study: Study, scope: Scope, names: list[str], goal: str
) -> tuple[float | None, list[float] | None]:
    moves: Counter[Any] = Counter()
    for part in each_inside(study, scope, core.transitions):
        moves.update(part)
    if not moves:
        return None, None
    chance, gains = core.weights(dict(moves), names.index(goal), len(names))
    return chance, gains.tolist()


def _screen(counts: Any, name: str, expected: float, weight: float | None) -> DropOff:
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
def evidence(study: Study, scope: Scope, figure: str) -> NDArray[np.bool_]:
    return journeys_of(study, scope, core.label, figure)
