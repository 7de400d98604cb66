"""Tabs: visits of each, how they begin and how deep they go, and switches between them.

A visit of a tab is a run of steps in it, with the sheets over it; screens outside end it. A switch
leads from one visit to the next of another tab. A *flip* is two switches, from a tab to another and
back, in less than ten seconds by the clock, the app in the background or not. How long the last
visit of a journey was, nobody knows, if its last screen is one of the visit's. A filter is no
place: what counts is how often it was chosen for each visit of the screen that it is on.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.kernel import kernel, read_only
from mossy_trail.core.measures.cells import Cells, Grid, cells, picked
from mossy_trail.core.model.log import EVENT, NONE, SECOND, Column
from mossy_trail.core.model.steps import MARK, MOVE, SHEET, TAB, Steps

QUICK = 10 * SECOND
_SWITCH, _POP = MOVE["switch_tab"], MOVE["pop"]
_SWITCH_ROW, _MISMATCH = EVENT["switch_tab"], MARK["tab_mismatch"]
_OTHERWISE, _RESUMED, _AT_ROOT, _BACK = range(4)


class Visits(NamedTuple):
    """Visits in order; arrays of shape (visits,). Times in microseconds.

    `dwell` is without the time in the background, −1 where it is not known; `since` when the
    visit began. `began` tells those that began with the choice of the tab, where they had been
    before or at its root, and those that a way back from another tab's root led to.
    """

    tab: NDArray[np.int32]
    journey: NDArray[np.int32]
    dwell: NDArray[np.int64]
    since: NDArray[np.int64]
    deepest: NDArray[np.int32]
    began: NDArray[np.int8]


def visits(steps: Steps, inside: NDArray[np.bool_]) -> Visits:
    """The visits of the journeys `inside`; linear in steps."""
    own, entries = steps.steps, steps.entries
    at = (entries.region, entries.tab, entries.depth)
    return Visits(*_visits(own.entry, own.move, own.journey, own.visible, steps.dwell, at, inside))


@kernel
def _visits(
    entry: Column,
    move: Column,
    journey: Column,
    visible: Column,
    dwell: Column,
    at: tuple[Column, Column, Column],
    inside: Column,
) -> tuple[Column, Column, Column, Column, Column, Column]:
    region, tab_of, depth = at
    n = len(entry)
    tabs, own = np.empty(n, np.int32), np.empty(n, np.int32)
    stay, since = np.empty(n, np.int64), np.empty(n, np.int64)
    deepest, began = np.empty(n, np.int32), np.empty(n, np.int8)
    made, current, before = 0, -1, -1
    for i in range(n):
        if i == 0 or journey[i] != journey[i - 1]:
            current, before = -1, -1
        where = region[entry[i]]
        if not inside[journey[i]] or (where != TAB and where != SHEET):
            current, before = -1, entry[i]
            continue
        tab = tab_of[entry[i]] if where == TAB else -1
        if tab != NONE and tab != current:
            tabs[made], own[made], since[made] = tab, journey[i], visible[i]
            stay[made] = deepest[made] = 0
            began[made] = _OTHERWISE
            if move[i] == _SWITCH:
                began[made] = _RESUMED if depth[entry[i]] > 1 else _AT_ROOT
            elif move[i] == _POP and before >= 0 and region[before] == TAB and depth[before] == 1:
                began[made] = _BACK
            current = tab
            made += 1
        before = entry[i]
        if current == -1:
            continue
        stay[made - 1] = stay[made - 1] + dwell[i] if dwell[i] >= 0 else NONE
        if tab != NONE:
            deepest[made - 1] = max(deepest[made - 1], depth[entry[i]])
    return tabs[:made], own[:made], stay[:made], since[:made], deepest[:made], began[:made]


def label(steps: Steps, inside: NDArray[np.bool_]) -> tuple[dict[str, Cells], Visits]:
    """Cells of tabs, and the visits: `visit`, `first` (of a journey), `resumed`, `root`, `again`
    (chosen while selected), `mismatch` (another one was reported), `root_back` (back at the root
    led to another tab), each of a tab; `switch` and `flip` of two; of filters `filter`, chosen,
    and `on`, a visit of their screen."""
    own, by_tab = visits(steps, inside), Grid(steps.places.tab_names)
    fresh = np.append(True, own.journey[1:] != own.journey[:-1])[: len(own.tab)]
    masks = {"first": fresh, "resumed": own.began == _RESUMED, "root": own.began == _AT_ROOT}
    inner = np.repeat(inside, steps.journeys.steps)
    odd = inner & (steps.steps.marks & _MISMATCH != 0)
    backs = np.flatnonzero(own.began == _BACK)
    chosen = _chosen(steps, inside)
    return {
        "visit": cells(by_tab, own.tab, own.journey),
        **{word: picked(by_tab, mask, own.tab, own.journey) for word, mask in masks.items()},
        "root_back": cells(by_tab, own.tab[backs - 1], own.journey[backs]),
        "mismatch": picked(by_tab, odd, steps.tab, steps.steps.journey),
        "again": _again(steps, *chosen),
        **_switches(steps, own, fresh),
        **_filters(steps, *chosen, inner),
    }, own


def _again(steps: Steps, rows: Column, journey: Column) -> Cells:
    """Rows that chose the tab in which the user was already."""
    tab = steps.places.tab_of_word[steps.log.columns["tab"][rows]]
    visible = np.searchsorted(steps.made_by, rows) - 1
    own = np.maximum(visible, 0)
    if not len(steps.made_by):
        return cells(Grid(steps.places.tab_names), tab[:0], journey[:0])
    there = (visible >= 0) & (steps.steps.journey[own] == journey) & (tab != NONE)
    again = there & (steps.tab[own] == tab)
    return cells(Grid(steps.places.tab_names), tab[again], journey[again])


def _chosen(steps: Steps, inside: NDArray[np.bool_]) -> tuple[Column, Column]:
    """The rows of the journeys `inside` that say that a tab or filter was chosen; the journeys."""
    columns, journeys = steps.log.columns, steps.journeys
    event, tab = read_only(columns["event"]), read_only(columns["tab"])
    return _rows_of(event, tab, journeys.first_row, journeys.rows, inside)


@kernel
def _rows_of(
    event: Column, tab: Column, first_row: Column, rows: Column, inside: Column
) -> tuple[Column, Column]:
    found, own = np.empty(len(event), np.int64), np.empty(len(event), np.int32)
    count = 0
    for j in range(len(inside)):
        if not inside[j]:
            continue
        for row in range(first_row[j], first_row[j] + rows[j]):
            if event[row] == _SWITCH_ROW and tab[row] != NONE:
                found[count], own[count] = row, j
                count += 1
    return found[:count], own[:count]


def _switches(steps: Steps, own: Visits, fresh: NDArray[np.bool_]) -> dict[str, Cells]:
    names = steps.places.tab_names
    size = max(len(names), 1)
    chosen = (own.began == _RESUMED) | (own.began == _AT_ROOT)
    on = np.flatnonzero(chosen & ~fresh)
    two = on[on > 1]
    there = (own.journey[two - 2] == own.journey[two]) & (own.tab[two - 2] == own.tab[two])
    there &= chosen[two - 1]
    flips = two[there & (own.since[two] - own.since[two - 1] < QUICK)]
    low, high = np.sort([own.tab[flips - 1], own.tab[flips]], axis=0)
    pairs = Grid(names, names)
    return {
        "switch": cells(pairs, own.tab[on - 1] * size + own.tab[on], own.journey[on]),
        "flip": cells(pairs, low * size + high, own.journey[flips]),
    }


def _filters(steps: Steps, rows: Column, own: Column, inner: NDArray[np.bool_]) -> dict[str, Cells]:
    places, journey = steps.places, steps.steps.journey
    by_filter = Grid(places.filter_names)
    used = places.filter_of_word[steps.log.columns["tab"][rows]]
    on = [np.flatnonzero(inner & (steps.screen == screen)) for screen in places.filter_on]
    which = np.repeat(np.arange(len(on)), [len(found) for found in on])
    at = np.concatenate([np.empty(0, "i8"), *on])
    return {
        "filter": cells(by_filter, used, own),
        "on": cells(by_filter, which, journey[at]),
    }
