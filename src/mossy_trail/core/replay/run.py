"""The state of a replay at work: few arrays of records, since each array costs at every call."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.kernel import inner_kernel, kernel, read_only
from mossy_trail.core.model.app_map import HISTORY, Places
from mossy_trail.core.model.log import DTYPES, EVENT, NONE, Column, Log
from mossy_trail.core.model.steps import FATE, TAB, Entries
from mossy_trail.core.replay.linked import not_linked

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
        ("under", "i1"),
        ("values", "i4"),
        ("not_linked", "?"),
        ("event", "u1"),
        ("via", "i1"),
        ("outcome", "i1"),
        ("fate", "u1"),
        ("choice", "u1"),
        ("unsure", "?"),
    ],
    align=True,
)
_SCREEN = np.dtype([(name, "i8") for name in ("home", "homes", "role", "outside")])
_TAB = np.dtype([(name, "i8") for name in ("root", "top", "used")])
_ENTRY = np.dtype([(name, "i8") for name in (*Entries._fields, "forward", "fingerprint")])
STEP_DTYPE = np.dtype(
    [
        ("entry", "i4"),
        ("below", "i4"),
        ("expected", "i4"),
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
    state: Column
    """Where the run stands, by the names below; shape (STATE_SIZE,)."""


# What the state holds. VISIBLE is the visible entry, STEP its step in this journey. PENDING_ROW
# is a move row whose view has not come yet, OPEN_LINK an open_link row whose landing has not,
# FIRST_ROW the first row since the last step that belongs to the next one, SHOWN_ROW the last row
# that showed VISIBLE. UNDER is the top of an outside stack that was kept under the tabs, RESTORED
# the entry that was visible when the app ended, RESUMED whether this journey goes on from there,
# CLOCK counts selections of tabs, SEARCH_BUDGET how far stacks may be searched. TAKEN_OFF is the
# entry that the last move back took off; `forward` of that entry, the one taken off before.
# REPORTED is the tab that the row at hand reports. COLD is whether nothing has moved since an
# app_start that named its screen, or since a link was opened then, ALREADY whether the open
# link's screen was visible when it was opened. EXPECTED is the entry on which the move at hand
# should have landed, if it landed elsewhere. TELLS_LINKS is whether the log has rows of links.
# SETTLE_TIME is as the settings say. SPARE_ENTRIES counts those that may be made beside two for
# each row. The last ones are the history rules: the number of each one's setting in
# `app_map.HISTORY`.
(
    VISIBLE,
    SELECTED,
    STEP,
    ENTRIES,
    STEPS,
    PENDING_ROW,
    OPEN_LINK,
    WANTED,
    FIRST_ROW,
    START_ROW,
    AWAY_SINCE,
    MARKED,
    RESENT,
    SIGNED_OUT,
    SHOWN_ROW,
    UNDER,
    RESTORED,
    CLOCK,
    SEARCH_BUDGET,
    TAKEN_OFF,
    REPORTED,
    COLD,
    RESUMED,
    SPARE_ENTRIES,
    SETTLE_TIME,
    ALREADY,
    TELLS_LINKS,
    EXPECTED,
    TABS,
    ROOT_BACK,
    RESELECT,
    LINK_COLD,
    LINK_WARM,
    RESTART,
    KEEP_OUTSIDE,
    ACROSS,
    STATE_SIZE,
) = range(37)


def _setting(rule: str, word: str) -> int:
    return HISTORY[rule].index(word)


TABS_RESET, TABS_SHARED = _setting("tabs", "reset"), _setting("tabs", "shared")
BACK_EXIT, BACK_FIRST, BACK_PREVIOUS, BACK_IN_BAR = (
    _setting("root_back", word) for word in ("exit", "first_tab", "previous_tab", "bar_order")
)
RESELECT_STAY, RESTART_FRESH = _setting("reselect", "stay"), _setting("restart", "fresh")
OUTSIDE_KEPT, COLD_ALONE = _setting("outside", "kept"), _setting("link_cold", "alone")
ACROSS_HERE = _setting("across", "here")
LINK_OVER, LINK_PARENTS, LINK_ALONE = (
    _setting("link_warm", word) for word in ("over", "parents", "alone")
)
STARTED_COLD, OPENED_COLD = 1, 2
SEARCH_BUDGET_PER_ROW = 64
"""Entries that searches may look at, for each row of a user so far: so time is linear in rows."""

_SWITCH_ROW = EVENT["switch_tab"]
_CUSTOM, _KEPT, _RESENT = EVENT["custom"], FATE["kept"], FATE["resent"]
_CODINGS = ("of_name", "params_of_name", "tab_of_word", "link_target", "link_under", "link_params")


class Source(NamedTuple):
    """The rows of a part as the replay takes them: columns, names resolved by codings."""

    time: Column
    user: Column
    journey: Column
    screen: Column
    origin: Column
    params: Column
    tab: Column
    uri: Column
    source: Column
    taken_off: Column
    event: Column
    via: Column
    outcome: Column
    again: Column
    of_name: Column
    params_of_name: Column
    tab_of_word: Column
    link_target: Column
    link_under: Column
    link_params: Column
    not_linked: Column

    @classmethod
    def of(
        cls, log: Log, places: Places, journey: NDArray[np.int32], again: NDArray[np.bool_]
    ) -> Source:
        """`journey` numbers each row's session; rows that came `again` are no second move."""
        own: dict[str, Any] = {n: read_only(log.columns[n]) for n in cls._fields if n in DTYPES}
        codings = {n: getattr(places, n) for n in _CODINGS}
        own |= {"taken_off": read_only(log.columns["count"]), "again": again}
        if places.filter_names:
            own["event"] = read_only(_without_filters(log, places))
        return cls(journey=journey, not_linked=not_linked(log, places, journey), **own, **codings)


def _without_filters(log: Log, places: Places) -> NDArray[np.uint8]:
    """Each row's event; choosing a filter is no move."""
    event, tab = log.columns["event"], log.columns["tab"]
    is_filter = np.append(places.filter_of_word != NONE, False)
    return np.where((event == _SWITCH_ROW) & is_filter[tab], _CUSTOM, event).astype(event.dtype)


def new_run(rows: int, places: Places, history: Mapping[str, str], room: int) -> Run:
    """A run with nothing done yet, whose rows are still to be filled.

    There is room for so many entries beside the tabs' roots.
    """
    screens = np.empty(len(places.role), _SCREEN)
    for name in _SCREEN.names or ():
        screens[name] = getattr(places, name)
    state = np.full(STATE_SIZE, NONE, "i8")
    state[
        [
            STEPS,
            MARKED,
            RESENT,
            SIGNED_OUT,
            CLOCK,
            SEARCH_BUDGET,
            COLD,
            RESUMED,
            SPARE_ENTRIES,
            ALREADY,
        ]
    ] = 0
    state[ENTRIES] = len(places.roots)
    state[TELLS_LINKS] = len(places.link_target) > 0
    state[TABS:] = [HISTORY[rule].index(history[rule]) for rule in HISTORY]
    tabs = np.full(len(places.roots), NONE, _TAB)
    tabs["root"] = places.roots
    entries = _first_entries(places, room + len(tabs))
    return Run(np.empty(rows, _ROW), screens, entries, np.empty(rows, STEP_DTYPE), tabs, state)


@kernel
def fill(rows: Column, source: Source, begin: int) -> None:
    """Make records of the source's rows from `begin` on, in one pass."""
    for i in range(len(rows)):
        row, j = rows[i], begin + i
        screen, origin, tab, uri = source.screen[j], source.origin[j], source.tab[j], source.uri[j]
        row.time, row.user, row.journey = source.time[j], source.user[j], source.journey[j]
        row.screen = source.of_name[screen] if screen != NONE else NONE
        row.origin = source.of_name[origin] if origin != NONE else NONE
        row.tab = source.tab_of_word[tab] if tab != NONE else NONE
        row.target = row.under = row.values = NONE
        if uri != NONE:
            row.target, row.under = source.link_target[uri], source.link_under[uri]
            row.values = source.link_params[uri]
        row.not_linked = source.not_linked[j]
        row.params, row.uri, row.source = source.params[j], uri, source.source[j]
        if row.params == NONE and screen != NONE:
            row.params = source.params_of_name[screen]
        row.count, row.via, row.outcome = source.taken_off[j], source.via[j], source.outcome[j]
        row.event = _CUSTOM if source.again[j] else source.event[j]
        row.fate = _RESENT if source.again[j] else _KEPT
        row.choice, row.unsure = 0, False


def _first_entries(places: Places, room: int) -> Column:
    """Room for entries; as the first ones, each tab's root by itself, as a tab at rest has it."""
    entries = np.empty(room, _ENTRY)
    roots = entries[: len(places.roots)]
    for name in ("params", "below", "under", "forward"):
        roots[name] = NONE
    roots["screen"], roots["depth"], roots["region"] = places.roots, 1, TAB
    roots["tab"] = np.arange(len(roots))
    _take_fingerprints(roots)
    return entries


@kernel
def _take_fingerprints(roots: Column) -> None:
    for tab in range(len(roots)):
        roots[tab].fingerprint = fingerprint(roots[tab].screen, NONE, NONE, TAB, tab, NONE)


@inner_kernel
def fingerprint(screen: int, params: int, under: int, region: int, tab: int, base: int) -> int:
    """A number that tells an entry and all below it from others; `under` and `base` are such."""
    what = (screen << 32) + params
    place = (tab << 8) + region
    return mix(mix(what, under), mix(place, base))


@inner_kernel
def mix(number: int, more: int) -> int:
    # Not (number ^ more): of small codes, many pairs would come to the same.
    mixed = (number * 6364136223846793005 + more) * -7046029254386353131
    return mixed ^ ((mixed >> 29) & 0x7FFFFFFFF)
