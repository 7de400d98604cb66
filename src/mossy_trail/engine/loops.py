"""Loops, ways back, and screens that people do not get out of."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.measures.loops import KINDS, label
from mossy_trail.core.scope import Scope
from mossy_trail.core.stats import Quartiles, Share, quartiles, share
from mossy_trail.core.steps import Steps
from mossy_trail.engine.celled import Count, Name, added, journeys_of
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
    turns: Quartiles | None
    most_turns: int
    took: Quartiles | None
    ended: Count


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
    asked = each_inside(study, scope, _walked)
    counts, parts = added(told for told, _ in asked), [walked for _, walked in asked]
    names = study.parts[0].places.names if study.parts else []
    under = counts.under("loop")
    told = list(under)[:MOST]
    walked = _told(parts, names, told)
    found = [
        Loop(name[0], list(name[1:]), under[name], *walked[name], counts.of("ended", *name))
        for name in told
    ]
    kinds = {kind: sum(n.times for name, n in under.items() if name[0] == kind) for kind in KINDS}
    screens = [_screen(counts, name) for (name,) in counts.under("visits")]
    inside = scope_mask(study, scope)
    deep = study.index.deepest[inside]
    backs = sum(one.backs.times for one in screens)
    visits = sum(one.visits.times for one in screens)
    return LoopFigures(
        int(inside.sum()),
        found,
        len(under) - len(found),
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


def _walked(steps: Steps, inside: NDArray[np.bool_]) -> tuple[Any, tuple[NDArray[Any], ...]]:
    """The counts of a part, and each loop's key, turns, time and user."""
    cells, own = label(steps, inside)
    key = own.key * len(KINDS) + own.kind
    return cells.counts(), (key, own.turns, own.took, steps.journeys.user[own.journey])


def _told(
    parts: list[tuple[NDArray[Any], ...]], names: list[str], told: list[Name]
) -> dict[Name, tuple[int, Quartiles | None, int, Quartiles | None]]:
    """Per loop its users, turns and times, of all parts."""
    if not told:
        return {}
    columns = zip(*parts, strict=True)
    key, turns, took, user = (np.concatenate(column) for column in columns)
    order = np.argsort(key, kind="stable")
    sorted_keys = key[order]
    found = {}
    for name in told:
        wanted = _key(name, names)
        first, end = np.searchsorted(sorted_keys, [wanted, wanted + 1])
        own = order[first:end]
        users = len(np.unique(user[own]))
        found[name] = (
            users,
            quartiles(turns[own]),
            int(turns[own].max()),
            quartiles(took[own] / 1000),
        )
    return found


def _key(name: Name, names: list[str]) -> int:
    """The number by which the core knows a loop of this name."""
    code, number = {screen: i for i, screen in enumerate(names)}, 0
    for screen in name[1:]:
        number = number * (len(names) + 1) + code[screen] + 1
    return number * len(KINDS) + KINDS.index(name[0])


@evidence_of("loops")
def evidence(study: Study, scope: Scope, figure: str) -> NDArray[np.bool_]:
    return journeys_of(study, scope, _cells, figure)
