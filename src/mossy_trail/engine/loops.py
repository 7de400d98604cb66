"""Loops, ways back, and screens that people do not get out of."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.measures.loops import KINDS, label, screens_of
from mossy_trail.core.scope import Scope
from mossy_trail.core.stats import Quartiles, Share, quartiles, share
from mossy_trail.core.steps import Steps
from mossy_trail.engine.celled import Count, Name, counted, journeys_of
from mossy_trail.engine.evidence import evidence_of
from mossy_trail.engine.scoped import each_inside, scope_mask
from mossy_trail.engine.study import Study

MOST = 200
"""Loops that are told of, at the most."""


@dataclass(frozen=True)
class Loop:
    """A cycle of screens: how often it was walked, its turns, and its time in ms."""

    kind: str
    screens: list[str]
    count: Count
    users: int
    ended: Count
    turns: Quartiles | None
    most_turns: int
    took: Quartiles | None


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
    kinds: dict[str, int]
    screens: list[LoopScreen]
    backs: Share
    deepest: Quartiles | None
    most_deep: int

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


def _cells(steps: Steps, inside: NDArray[np.bool_]) -> Any:
    return label(steps, inside)[0]


def measure(study: Study, scope: Scope) -> LoopFigures:
    counts = counted(study, scope, _cells)
    names = study.parts[0].places.names if study.parts else []
    walked = _walked(study, scope, names)
    found = [
        Loop(kind, list(screens), count, *_told(walked, (kind, *screens), counts))
        for (kind, *screens), count in counts.under("loop").items()
    ]
    kinds = {kind: sum(one.count.times for one in found if one.kind == kind) for kind in KINDS}
    screens = [_screen(counts, name) for (name,) in counts.under("visits")]
    inside = scope_mask(study, scope)
    deep = study.index.deepest[inside]
    backs = sum(one.backs.times for one in screens)
    visits = sum(one.visits.times for one in screens)
    return LoopFigures(
        int(inside.sum()),
        found[:MOST],
        max(len(found) - MOST, 0),
        kinds,
        screens,
        share(backs, visits),
        quartiles(deep),
        int(deep.max(initial=0)),
    )


def _screen(counts: Any, name: str) -> LoopScreen:
    kinds = ("mistake", "dead_end", "stuck", "piled")
    visits, backs = counts.of("visits", name), counts.of("backs", name)
    rest = (counts.of(kind, name) for kind in kinds)
    return LoopScreen(name, visits, backs, share(backs.times, visits.times), *rest)


def _walked(study: Study, scope: Scope, names: list[str]) -> dict[Name, Any]:
    """Per loop its turns, times and users, of all parts."""
    found: dict[Name, list[Any]] = {}

    def ask(steps: Steps, inside: NDArray[np.bool_]) -> list[tuple[Name, Any]]:
        loops = label(steps, inside)[1]
        both = loops.key * len(KINDS) + loops.kind
        keys, which = np.unique(both, return_inverse=True)
        order = np.argsort(which, kind="stable")
        edges = np.searchsorted(which[order], np.arange(len(keys) + 1))
        told = []
        for i, key in enumerate(keys.tolist()):
            own = order[edges[i] : edges[i + 1]]
            cycle, kind = divmod(key, len(KINDS))
            name = (KINDS[kind], *(names[s] for s in screens_of(cycle, len(names))))
            users = np.unique(steps.journeys.user[loops.journey[own]])
            told.append((name, (loops.turns[own], loops.took[own], len(users))))
        return told

    for part in each_inside(study, scope, ask):
        for name, one in part:
            found.setdefault(name, []).append(one)
    return found


def _told(walked: dict[Name, Any], name: Name, counts: Any) -> tuple[Any, ...]:
    parts = walked[name]
    turns, took = (np.concatenate([part[i] for part in parts]) for i in (0, 1))
    users = sum(part[2] for part in parts)
    ended = counts.of("ended", *name)
    return users, ended, quartiles(turns), int(turns.max()), quartiles(took / 1000)


@evidence_of("loops")
def evidence(study: Study, scope: Scope, figure: str) -> NDArray[np.bool_]:
    return journeys_of(study, scope, _cells, figure)
