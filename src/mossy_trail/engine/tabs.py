"""Tabs: how each is used, and the ways between them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.measures.cells import Cells, Grid
from mossy_trail.core.measures.moments import ALL
from mossy_trail.core.measures.tabs import Visits, label
from mossy_trail.core.model.log import NONE
from mossy_trail.core.model.scope import Scope
from mossy_trail.core.model.steps import Steps, count_users
from mossy_trail.core.stats.intervals import Quartiles, Share, quartiles, share
from mossy_trail.engine.celled import Count, Counts, Labels, Mask, Tallies, journeys_of, tallied
from mossy_trail.engine.rates import Asking, Rate, Told, Took, rates_of
from mossy_trail.engine.registry import evidence_of, measure_of
from mossy_trail.engine.scoped import each_labelled, scope_mask
from mossy_trail.engine.study import Study


@dataclass(frozen=True)
class Tab:
    """One tab; `used` are journeys, or users, of those who could see it, `dwell` a visit's in
    ms."""

    name: str
    visits: Count
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
class Switch:
    start: str
    end: str
    count: Count


@dataclass(frozen=True)
class Filter:
    """What switches content inside a screen: visits of that screen, and choices of the filter."""

    name: str
    on: str
    visits: Count
    used: Count


@dataclass(frozen=True)
class TabFigures:
    in_scope: int
    tabs: list[Tab]
    switches: list[Switch]
    flips: list[Switch]
    filters: list[Filter]


@measure_of("tabs")
def measure(study: Study, scope: Scope) -> TabFigures:
    """How each tab is used, and the ways between them."""
    asked = each_labelled(study, scope, "tabs", label, _asked)
    counts = Counts([told for told, _ in asked])
    inside = scope_mask(study, scope)
    names = _tab_names(study)
    tabs = [
        _tab(study, counts, inside, scope.unit, name, [own[code] for _, own in asked])
        for code, name in enumerate(names)
    ]
    filters = [
        Filter(one.name, one.on, counts.of("on", one.name), counts.of("filter", one.name))
        for one in study.app_map.filters
    ]
    ways = (_ways(counts, "switch"), _ways(counts, "flip"))
    return TabFigures(int(inside.sum()), tabs, *ways, filters)


Stays = tuple[NDArray[np.float64], NDArray[np.int32]]
"""Of the visits of a tab in a part how long each was, in ms, and how deep it went."""


def _asked(
    steps: Steps, inside: Mask, labelled: tuple[Labels, Visits]
) -> tuple[Tallies, list[Stays]]:
    """The counts of a part, and the stays in each tab."""
    labels, own = labelled
    stays = []
    for code in range(len(steps.places.tab_names)):
        at = np.flatnonzero(own.tab == code)
        known = at[own.dwell[at] >= 0]
        stays.append((own.dwell[known] / 1000, own.deepest[at]))
    return tallied(steps, labels), stays


def _tab(
    study: Study,
    counts: Counts,
    inside: Mask,
    unit: str,
    name: str,
    stays: Sequence[Stays],
) -> Tab:
    shown = _told_shown(study, name)
    visited = counts.of("visit", name)
    could = inside & _could_see(study, shown) if shown else inside
    used, of = visited.journeys, int(could.sum())
    if unit == "users":
        used, of = visited.users, count_users(study.index.user[could])
    return Tab(
        name,
        visited,
        share(min(used, of), of),
        {key: list(values) for key, values in shown.items()} if shown else None,
        **{kind: counts.of(kind, name) for kind in _KINDS},
        dwell=quartiles(np.concatenate([dwell for dwell, _ in stays])),
        deepest=quartiles(np.concatenate([deep for _, deep in stays])),
    )


_KINDS = ("first", "resumed", "root", "again", "root_back", "mismatch")


def _could_see(study: Study, shown: Mapping[str, Sequence[str]]) -> Mask:
    return study.joined(lambda steps: _sees(study, steps, shown))


def _sees(study: Study, steps: Steps, shown: Mapping[str, Sequence[str]]) -> Mask:
    """Which journeys of a part are of those to whom a tab is shown."""
    found = np.ones(len(steps.journeys.start), bool)
    for name, values in shown.items():
        found &= study.property(name).having(steps, values)
    return found


def _ways(counts: Counts, kind: str) -> list[Switch]:
    return [Switch(start, end, count) for (start, end), count in counts.all(kind).items()]


@evidence_of("tabs")
def evidence(study: Study, scope: Scope, figure: str) -> Mask:
    return journeys_of(study, scope, "tabs", label, figure)


@rates_of("tabs")
def rates(study: Study, scope: Scope) -> Asking:
    """Who used each tab, how its visits began and how long they were."""
    shown = [_told_shown(study, name) for name in _tab_names(study)]

    def ask(steps: Steps, inside: Mask) -> Told:
        labels, own = label(steps, inside)
        seers = [np.flatnonzero(inside & _sees(study, steps, to) if to else inside) for to in shown]
        by_tab, visits = Grid(_tab_names(study)), labels["visit"]
        able = Cells(
            by_tab,
            np.repeat(np.arange(len(seers)), [len(who) for who in seers]),
            np.concatenate([np.empty(0, "i8"), *seers]).astype("i4"),
        )
        unit = scope.unit if not any(shown) else f"{scope.unit} that could see it"
        return Told(
            [
                Rate("visit", visits, able, "used {0}", unit, counts="unit"),
                Rate("first", labels["first"], _sessions(by_tab, labels["first"]),
                     "began in {0}", "sessions with a tab", ALL),
                Rate("root", labels["root"], visits, "came to the root of {0}", "visits of {0}"),
                Rate("resumed", labels["resumed"], visits,
                     "came back to where they had been in {0}", "visits of {0}"),
                Rate("again", labels["again"], visits, "chose {0} while in it", "visits of {0}"),
                Rate("root_back", labels["root_back"], visits,
                     "went back from the root of {0} to another tab", "visits of {0}"),
                Rate("mismatch", labels["mismatch"], visits,
                     "had another tab reported in {0}", "visits of {0}", worse=1, norm={"": 0.01}),
            ],
            [Took("visit", by_tab, own.tab.astype("i8"), own.journey.astype("i8"),
                  np.where(own.dwell < 0, NONE, own.dwell / 1000), "in {0}", "visits")],
        )  # fmt: skip

    return ask


def _sessions(naming: Grid, first: Cells) -> Cells:
    return Cells(naming, np.where(first.number == NONE, NONE, 0), first.journey)


def _tab_names(study: Study) -> list[str]:
    return study.parts[0].places.tab_names if study.parts else []


def _told_shown(study: Study, name: str) -> Mapping[str, Sequence[str]] | None:
    """To whom a tab is shown; None for all, and where the log does not tell."""
    shown = next((tab.shown_to for tab in study.app_map.tabs if tab.name == name), None)
    if not shown or not all(study.property(key).values for key in shown):
        return None
    return shown
