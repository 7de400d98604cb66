"""The state of a replay at work: few arrays of records, since each array costs at every call."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.app_map import HISTORY, Places
from mossy_trail.core.kernel import inner_kernel, kernel, read_only
from mossy_trail.core.log import EVENT, NONE, Column, Log
from mossy_trail.core.sessions import resent
from mossy_trail.core.steps import FATE, TAB, Entries, StepColumns

_ROW = np.dtype(
    [
        ("time", "i8"),
        ("user", "i4"),
        ("journey", "i4"),
        ("screen", "i4"),
        ("origin", "i4"),
        ("params", "i4"),
        ("tab", "i4"),
        ("uri", "i4"),
        ("source", "i4"),
        ("count", "i4"),
        ("target", "i4"),
        ("event", "u1"),
        ("via", "i1"),
        ("outcome", "i1"),
        ("fate", "u1"),
        ("choice", "u1"),
        ("unsure", "?"),
    ],
    align=True,
)
_SCREEN = np.dtype([(name, "i8") for name in ("home", "role", "outside")])
_TAB = np.dtype([(name, "i8") for name in ("root", "top", "used")])
_ENTRY = np.dtype([(name, "i8") for name in (*Entries._fields, "forward", "print")])
_STEP = np.dtype(
    [
        ("entry", "i4"),
        ("below", "i4"),
        ("move", "u1"),
        ("inferred", "?"),
        ("unsure", "?"),
        ("asked", "i8"),
        ("visible", "i8"),
        ("loaded", "?"),
        ("away", "i8"),
        ("wanted", "i4"),
        ("tab_reported", "i4"),
        ("uri", "i4"),
        ("source", "i4"),
        ("marks", "u2"),
        ("repeats", "i4"),
        ("refused", "i4"),
        ("first_row", "i4"),
        ("journey", "i4"),
    ],
    align=True,
)


class Run(NamedTuple):
    rows: Column
    screens: Column
    entries: Column
    steps: Column
    tabs: Column
    """Per tab its `root`, the entry on `top` of its stack, and when it was last `used`: −1 for
    tabs that "back" does not lead to."""
    at: Column
    """The registers below."""


# Registers of a run. VIS is the visible entry, STEP its step in this journey. PENDING is a move
# row whose view has not come yet, LINK an open_link row whose landing has not, FIRST the first
# row since the last step that belongs to the next one, SHOWN the last row that showed VIS. UNDER
# is the top of an outside stack that was kept under the tabs, RESTORED the entry that was visible
# when the app ended, CLOCK counts selections of tabs, LOOKS how far stacks may be searched, and
# AHEAD is the entry that the last pop took off; `forward` of that entry, the one taken off before.
# The last ones are the history rules: the number of each one's setting in `app_map.HISTORY`.
(
    VIS,
    SELECTED,
    STEP,
    ENTRIES,
    STEPS,
    PENDING,
    LINK,
    WANTED,
    FIRST,
    STARTED,
    AWAY_SINCE,
    MARKED,
    RESENT,
    SIGNED_OUT,
    SHOWN,
    UNDER,
    RESTORED,
    CLOCK,
    LOOKS,
    AHEAD,
    TABS,
    ROOT_BACK,
    RESELECT,
    LINK_COLD,
    LINK_WARM,
    RESTART,
    KEEP_OUTSIDE,
    REGISTERS,
) = range(28)


def _setting(rule: str, word: str) -> int:
    return HISTORY[rule].index(word)


TABS_RESET, TABS_SHARED = _setting("tabs", "reset"), _setting("tabs", "shared")
BACK_FIRST, BACK_PREVIOUS = (_setting("root_back", w) for w in ("first_tab", "previous_tab"))
RESELECT_STAY, RESTART_FRESH = _setting("reselect", "stay"), _setting("restart", "fresh")
OUTSIDE_KEPT, COLD_ALONE = _setting("outside", "kept"), _setting("link_cold", "alone")
LINK_OVER, LINK_PARENTS, LINK_ALONE = (
    _setting("link_warm", word) for word in ("over", "parents", "alone")
)
LOOKS_PER_ROW = 64
"""Entries that searches may look at, for each row of a user so far: so time is linear in rows."""

_CUSTOM, _KEPT, _RESENT = EVENT["custom"], FATE["kept"], FATE["resent"]
_ZERO: Any = np.int64(0)


def new_run(
    log: Log, places: Places, history: Mapping[str, str], journey: NDArray[np.int32], room: int
) -> Run:
    """A run over these rows with nothing done yet; `journey` numbers each row's session.

    There is room for so many entries beside the tabs' roots.
    """
    n = len(log)
    rows = np.empty(n, _ROW)
    columns = tuple(read_only(log.columns[name]) for name in _TAKEN)
    codings = (places.of_name, places.tab_of_word, places.link_target)
    _fill(rows, journey, resent(log), columns, codings)
    screens = np.empty(len(places.role), _SCREEN)
    for name in _SCREEN.names or ():
        screens[name] = getattr(places, name)
    registers = np.full(REGISTERS, NONE, "i8")
    registers[[STEPS, MARKED, RESENT, SIGNED_OUT, CLOCK, LOOKS]] = 0
    registers[ENTRIES] = len(places.roots)
    registers[TABS:] = [HISTORY[rule].index(history[rule]) for rule in HISTORY]
    tabs = np.full(len(places.roots), NONE, _TAB)
    tabs["root"] = places.roots
    return Run(
        rows,
        screens,
        _first_entries(places, room + len(tabs)),
        np.empty(n, _STEP),
        tabs,
        registers,
    )


_TAKEN = (
    *("time", "user", "screen", "origin", "params", "tab"),
    *("uri", "source", "count", "event", "via", "outcome"),
)


@kernel
def _fill(
    rows: Column,
    journey: Column,
    again: Column,
    columns: tuple[Column, ...],
    codings: tuple[Column, ...],
) -> None:
    """Each row's record, in one pass: its columns, with names resolved."""
    time, user, screen, origin, params, tab, uri, source, count, event, via, outcome = columns
    of_name, tab_of_word, link_target = codings
    for i in range(len(rows)):
        row = rows[i]
        row.time, row.user, row.journey = time[i], user[i], journey[i]
        row.screen = of_name[screen[i]] if screen[i] != NONE else NONE
        row.origin = of_name[origin[i]] if origin[i] != NONE else NONE
        row.tab = tab_of_word[tab[i]] if tab[i] != NONE else NONE
        row.target = link_target[uri[i]] if uri[i] != NONE else NONE
        row.params, row.uri, row.source = params[i], uri[i], source[i]
        row.count, row.via, row.outcome = count[i], via[i], outcome[i]
        row.event = _CUSTOM if again[i] else event[i]
        row.fate = _RESENT if again[i] else _KEPT
        row.choice, row.unsure = 0, False


def _first_entries(places: Places, room: int) -> Column:
    """Room for entries; as the first ones, each tab's root by itself, as a tab at rest has it."""
    entries = np.empty(room, _ENTRY)
    roots = entries[: len(places.roots)]
    for name in ("params", "below", "under", "forward"):
        roots[name] = NONE
    roots["screen"], roots["depth"], roots["region"] = places.roots, 1, TAB
    roots["tab"] = np.arange(len(roots))
    for tab, root in enumerate(roots):
        root["print"] = imprint(int(root["screen"]), NONE, NONE, TAB, tab, NONE)
    return entries


@inner_kernel
def imprint(screen: int, params: int, under: int, region: int, tab: int, base: int) -> int:
    """A number that tells an entry and all below it from others; `under` and `base` are such."""
    number = _stir(_stir(screen + _ZERO, params + _ZERO), under + _ZERO)
    return _stir(_stir(_stir(number, region + _ZERO), tab + _ZERO), base + _ZERO)


@inner_kernel
def _stir(number: int, more: int) -> int:
    mixed = (number ^ more) * -7046029254386353131
    return mixed ^ ((mixed >> 29) & 0x7FFFFFFFF)


def columns_of(run: Run) -> tuple[Entries, StepColumns]:
    """What a run has written, as columns."""
    made, written = run.entries[: run.at[ENTRIES]], run.steps[: run.at[STEPS]]
    entries = Entries(
        *(np.empty(len(made), "u1" if name == "region" else "i4") for name in Entries._fields)
    )
    steps = StepColumns(*(np.empty(len(written), _STEP[name]) for name in StepColumns._fields))
    _take_apart(made, entries, written, steps)
    return entries, steps


@kernel
def _take_apart(made: Column, entries: Entries, written: Column, steps: StepColumns) -> None:
    """Records as columns, in one pass over each."""
    for i in range(len(made)):
        entry = made[i]
        entries.screen[i], entries.params[i], entries.below[i] = (
            entry.screen,
            entry.params,
            entry.below,
        )
        entries.depth[i], entries.region[i] = entry.depth, entry.region
        entries.tab[i], entries.under[i] = entry.tab, entry.under
    for i in range(len(written)):
        step = written[i]
        steps.entry[i], steps.below[i], steps.move[i] = step.entry, step.below, step.move
        steps.inferred[i], steps.unsure[i] = step.inferred, step.unsure
        steps.loaded[i] = step.loaded
        steps.asked[i], steps.visible[i], steps.away[i] = step.asked, step.visible, step.away
        steps.wanted[i], steps.tab_reported[i] = step.wanted, step.tab_reported
        steps.uri[i], steps.source[i], steps.marks[i] = step.uri, step.source, step.marks
        steps.repeats[i], steps.refused[i] = step.repeats, step.refused
        steps.first_row[i], steps.journey[i] = step.first_row, step.journey


@inner_kernel
def wide(code: int) -> int:
    """The code as 64 bits, so that every kernel is compiled for one set of types."""
    return code + _ZERO
