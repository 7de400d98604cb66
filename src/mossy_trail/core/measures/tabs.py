"""Tabs: visits of each, how they begin and how deep they go, and switches between them.

A visit of a tab is a run of steps in it, with the sheets over it; screens outside end it. A switch
leads from one visit straight to the next of another tab. A *flip* is a way from a tab to another
and back whose middle visit took less than ten seconds.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.kernel import kernel
from mossy_trail.core.log import EVENT, NONE, SECOND, Column
from mossy_trail.core.measures.cells import Cells, cells, joined, named
from mossy_trail.core.steps import FATE, MARK, MOVE, SHEET, TAB, Steps

QUICK = 10 * SECOND
_SWITCH, _POP = MOVE["switch_tab"], MOVE["pop"]


class Visits(NamedTuple):
    """Visits in order; arrays of shape (visits,). Times in microseconds, −1 where not known."""

    tab: NDArray[np.int32]
    journey: NDArray[np.int32]
    first: NDArray[np.int32]
    dwell: NDArray[np.int64]
    deepest: NDArray[np.int32]


def visits(steps: Steps, inside: NDArray[np.bool_]) -> Visits:
    """The visits of the journeys `inside`; linear in steps."""
    entry, columns = steps.steps.entry, steps.steps
    return Visits(
        *_visits(
            np.where(steps.entries.region[entry] == TAB, steps.tab, NONE),
            steps.entries.region[entry] == SHEET,
            columns.journey,
            inside,
            steps.dwell,
            steps.entries.depth[entry],
        )
    )


@kernel
def _visits(
    tab: Column, sheet: Column, journey: Column, inside: Column, dwell: Column, depth: Column
) -> tuple[Column, Column, Column, Column, Column]:
    n = len(tab)
    tabs, own = np.empty(n, np.int32), np.empty(n, np.int32)
    first, stay = np.empty(n, np.int32), np.empty(n, np.int64)
    deepest = np.empty(n, np.int32)
    made, current = 0, -1
    for i in range(n):
        if i == 0 or journey[i] != journey[i - 1]:
            current = -1
        if not inside[journey[i]] or (tab[i] == NONE and not sheet[i]):
            current = -1
            continue
        if tab[i] != NONE and tab[i] != current:
            current = tab[i]
            tabs[made], own[made], first[made] = current, journey[i], i
            stay[made] = deepest[made] = 0
            made += 1
        if current == -1:
            continue
        if dwell[i] >= 0:
            stay[made - 1] += dwell[i]
        if tab[i] != NONE:
            deepest[made - 1] = max(deepest[made - 1], depth[i])
    return tabs[:made], own[:made], first[:made], stay[:made], deepest[:made]


def label(steps: Steps, inside: NDArray[np.bool_]) -> tuple[Cells, Visits]:
    """Cells of tabs, and the visits: `visit`, `first` (of a journey), `resumed`, `root`, `again`
    (chosen while selected), `mismatch` (another one was reported), `root_back` (back at the root
    led to another tab), each of a tab; `switch` and `flip` of two."""
    names, own = steps.places.tab_names, visits(steps, inside)
    firsts = np.append(True, own.journey[1:] != own.journey[:-1])[: len(own.tab)]
    chosen = steps.steps.move[own.first] == _SWITCH
    deep = steps.entries.depth[steps.steps.entry[own.first]] > 1
    found = [
        named("visit", names, own.tab, own.journey),
        named("first", names, own.tab[firsts], own.journey[firsts]),
        named("resumed", names, own.tab[chosen & deep], own.journey[chosen & deep]),
        named("root", names, own.tab[chosen & ~deep], own.journey[chosen & ~deep]),
        _again(steps, inside),
        _mismatches(steps, inside),
        _root_backs(steps, inside),
        *_switches(steps, own, chosen),
    ]
    return joined(found), own


def _again(steps: Steps, inside: NDArray[np.bool_]) -> Cells:
    """Rows that chose the tab that was selected already, and changed nothing."""
    columns = steps.log.columns
    rows = np.flatnonzero((columns["event"] == EVENT["switch_tab"]) & (steps.fate == FATE["kept"]))
    word = columns["tab"][rows]
    tab = np.where(word == NONE, NONE, steps.places.tab_of_word[word]) if len(rows) else word
    journey = np.searchsorted(steps.journeys.first_row, rows, side="right") - 1
    known = (tab != NONE) & inside[journey] if len(rows) else tab != NONE
    return named("again", steps.places.tab_names, tab[known], journey[known])


def _mismatches(steps: Steps, inside: NDArray[np.bool_]) -> Cells:
    own = steps.steps
    odd = np.flatnonzero((own.marks & MARK["tab_mismatch"] != 0) & inside[own.journey])
    return named("mismatch", steps.places.tab_names, steps.tab[odd], own.journey[odd])


def _root_backs(steps: Steps, inside: NDArray[np.bool_]) -> Cells:
    own, entries = steps.steps, steps.entries
    back = np.flatnonzero((own.move == _POP) & inside[own.journey])
    back = back[back > 0]
    before, after = own.entry[back - 1], own.entry[back]
    at_root = (entries.region[before] == TAB) & (entries.depth[before] == 1)
    away = (entries.region[after] == TAB) & (entries.tab[after] != entries.tab[before])
    chosen = back[at_root & away]
    tab = entries.tab[own.entry[chosen - 1]]
    return named("root_back", steps.places.tab_names, tab, own.journey[chosen])


def _switches(steps: Steps, own: Visits, chosen: NDArray[np.bool_]) -> list[Cells]:
    names = steps.places.tab_names
    size = max(len(names), 1)
    on = np.flatnonzero(np.append(False, own.journey[1:] == own.journey[:-1]) & chosen)
    pairs = own.tab[on - 1].astype("i8") * size + own.tab[on]
    two = on[(on > 1)]
    flips = two[
        (own.journey[two - 2] == own.journey[two])
        & (own.tab[two - 2] == own.tab[two])
        & (own.dwell[two - 1] < QUICK)
    ]
    low = np.minimum(own.tab[flips - 1], own.tab[flips]).astype("i8")
    high = np.maximum(own.tab[flips - 1], own.tab[flips])
    both = [(a, b) for a in names for b in names]
    return [
        cells([("switch", a, b) for a, b in both], pairs, own.journey[on]),
        cells([("flip", a, b) for a, b in both], low * size + high, own.journey[flips]),
    ]
