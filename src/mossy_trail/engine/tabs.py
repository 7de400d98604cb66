"""Tabs: how each is used, and the ways between them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.measures.tabs import label
from mossy_trail.core.properties import Property
from mossy_trail.core.scope import Scope
from mossy_trail.core.stats import Quartiles, Share, quartiles, share
from mossy_trail.core.steps import Steps
from mossy_trail.engine.celled import Count, added, journeys_of
from mossy_trail.engine.evidence import evidence_of
from mossy_trail.engine.scoped import each_inside, scope_mask
from mossy_trail.engine.study import Study


@dataclass(frozen=True)
class Tab:
    """One tab; `used` are journeys of those who could see it, `dwell` a visit's, in ms."""

    name: str
    visits: Count
    users: int
    used: Share
    shown_to: dict[str, list[str]] | None
    first: Count
    resumed: Count
    root: Count
    again: Count
    root_back: Count
    mismatch: Count
    dwell: Quartiles | None
    deepest: Quartiles | None


@dataclass(frozen=True)
class Way:
    start: str
    end: str
    count: Count


@dataclass(frozen=True)
class TabFigures:
    in_scope: int
    tabs: list[Tab]
    switches: list[Way]
    flips: list[Way]

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


def _cells(steps: Steps, inside: NDArray[np.bool_]) -> Any:
    return label(steps, inside)[0]


def measure(study: Study, scope: Scope) -> TabFigures:
    asked = each_inside(study, scope, _visited)
    counts, own = added(told for told, _ in asked), [visited for _, visited in asked]
    names = study.parts[0].places.tab_names if study.parts else []
    inside = scope_mask(study, scope)
    tabs = []
    for code, name in enumerate(names):
        shown = next((tab.shown_to for tab in study.app_map.tabs if tab.name == name), None)
        if not shown or not all(study.property(key).values for key in shown):
            shown = None  # the log does not tell who it is shown to
        visited = counts.of("visit", name)
        could = int((inside & _could_see(study, shown)).sum()) if shown else int(inside.sum())
        dwell = np.concatenate([d[t == code] for t, d, _, _ in own]) if own else np.empty(0)
        deep = np.concatenate([d[t == code] for t, _, d, _ in own]) if own else np.empty(0)
        tabs.append(
            Tab(
                name,
                visited,
                sum(len(np.unique(users[t == code])) for t, _, _, users in own),
                share(min(visited.journeys, could), could),
                {key: list(values) for key, values in shown.items()} if shown else None,
                **{kind: counts.of(kind, name) for kind in _KINDS},
                dwell=quartiles(dwell / 1000),
                deepest=quartiles(deep),
            )
        )
    return TabFigures(int(inside.sum()), tabs, _ways(counts, "switch"), _ways(counts, "flip"))


_KINDS = ("first", "resumed", "root", "again", "root_back", "mismatch")


def _visited(steps: Steps, inside: NDArray[np.bool_]) -> tuple[Any, tuple[Any, ...]]:
    """The counts of a part, and each visit's tab, dwell, depth and user."""
    cells, own = label(steps, inside)
    return cells.counts(), (own.tab, own.dwell, own.deepest, steps.journeys.user[own.journey])


def _could_see(study: Study, shown: Mapping[str, Sequence[str]]) -> NDArray[np.bool_]:
    found = np.ones(len(study.index.start), bool)
    for name, values in shown.items():
        found &= _having(study, study.property(name), values)
    return found


def _having(study: Study, wanted: Property, values: Sequence[str]) -> NDArray[np.bool_]:
    return study.joined(lambda steps: wanted.having(steps, values))


def _ways(counts: Any, kind: str) -> list[Way]:
    return [Way(start, end, count) for (start, end), count in counts.under(kind).items()]


@evidence_of("tabs")
def evidence(study: Study, scope: Scope, figure: str) -> NDArray[np.bool_]:
    return journeys_of(study, scope, _cells, figure)
