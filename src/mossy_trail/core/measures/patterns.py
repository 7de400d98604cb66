"""Patterns: where the steps of a journey fit one, how far the others get, and what comes next.

A match ends as soon as it can, and of those that end there it is the one that began last; the next
one begins after it. With time limits, the one is meant whose clock began last.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.kernel import inner_kernel, kernel
from mossy_trail.core.model.app_map import ROLES
from mossy_trail.core.model.conditions import clause_of, failed_tries, rows_of_steps
from mossy_trail.core.model.log import EVENT, NONE, Column
from mossy_trail.core.model.pattern import Automaton, Condition, Edge, Test
from mossy_trail.core.model.properties import members
from mossy_trail.core.model.steps import EXITS, MARK, MOVES, REGIONS, STARTS, UNKNOWN_TIME, Steps

Mask = NDArray[np.bool_]
HELD = 32
"""Values that are held at a time in a journey; of more, those begun first are let go."""


class Matches(NamedTuple):
    """Where a pattern fits, in order; `first` and `last` are steps, `took` is in microseconds.

    Per journey, `furthest` is the number of the last letter in the order written that it came to,
    -1 for none, and `let_go` whether it had more values to hold than there is room for.
    """

    journey: NDArray[np.int32]
    first: NDArray[np.int32]
    last: NDArray[np.int32]
    took: NDArray[np.int64]
    furthest: NDArray[np.int8]
    let_go: NDArray[np.bool_]


def matches(steps: Steps, pattern: Automaton, chosen: Mask) -> Matches:
    """The matches in the journeys `chosen`; linear in steps, whatever the pattern."""
    journeys = steps.journeys
    fits = [_fits(steps, letter) for letter in pattern.letters if isinstance(letter, Condition)]
    masks = np.array(fits) if fits else np.zeros((0, len(steps.screen)), bool)
    steps_of, edges = _letters(pattern)
    held = [test.key if test else "" for test in pattern.held]
    keys = sorted({key for key in held if key})
    column_of = np.array([keys.index(key) if key else NONE for key in held], "i8")
    negated = np.array([bool(test and test.negated) for test in pattern.held])
    if not keys and pattern.limit.max() < 0:
        found = _plain_matches(
            masks, steps_of, edges, pattern.first, pattern.last, pattern.follow, pattern.source,
            steps.steps.visible, journeys.first_step, journeys.steps, chosen,
        )  # fmt: skip
    else:
        found = _matches(
            masks, steps_of, edges, pattern.first, pattern.last, pattern.follow, pattern.inside,
            pattern.limit, pattern.source, column_of, negated, _held_values(steps, keys),
            steps.steps.visible, journeys.first_step, journeys.steps, journeys.start, journeys.end,
            chosen,
        )  # fmt: skip
    return Matches(*found)


class Progress(NamedTuple):
    """Of each journey, an entry for each letter up to the last one that it came to, the first of
    them for having begun at all; and, if it has no match, one for where it broke off."""

    come: NDArray[np.int64]
    journey: NDArray[np.int32]
    broke: NDArray[np.int64]
    broken: NDArray[np.int32]


def progress(found: Matches, furthest: NDArray[np.int64], chosen: Mask) -> Progress:
    """How far the journeys `chosen` came, as numbers from 0; `furthest` is the last letter."""
    return Progress(*_progress(found.journey, furthest, chosen))


@kernel
def _progress(
    matched: Column, furthest: Column, chosen: Column
) -> tuple[Column, Column, Column, Column]:
    has = np.zeros(len(chosen), np.bool_)
    for j in matched:
        has[j] = True
    room = len(chosen) + 1
    for j in range(len(chosen)):
        room += furthest[j] + 1
    come, journey = np.empty(room, np.int64), np.empty(room, np.int32)
    broke, broken = np.empty(len(chosen), np.int64), np.empty(len(chosen), np.int32)
    filled, breaks = 0, 0
    for j in range(len(chosen)):
        if not chosen[j]:
            continue
        for k in range(furthest[j] + 2):
            come[filled], journey[filled] = k, j
            filled += 1
        if not has[j]:
            broke[breaks], broken[breaks] = furthest[j] + 1, j
            breaks += 1
    return come[:filled], journey[:filled], broke[:breaks], broken[:breaks]


def _letters(pattern: Automaton) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """The positions of each condition; and those of a journey's start, and of its end."""
    edges = np.zeros(2, "i8")
    own = []
    for letter, positions in zip(pattern.letters, pattern.of_letter.tolist(), strict=True):
        if isinstance(letter, Edge):
            edges[int(letter.end)] |= positions
        else:
            own.append(positions)
    return np.array(own, "i8"), edges


@kernel
def _plain_matches(
    masks: Column, of_letter: Column, edges: Column, first: int, accepting: int, follow: Column,
    source: Column, visible: Column, first_step: Column, count: Column, chosen: Column,
) -> tuple[Column, Column, Column, Column, Column, Column]:  # fmt: skip
    """Without limits or held values it is enough to know which positions are reached: where a match
    began is found by going back from its end."""
    room = len(visible) + 2 * len(count)
    journey, begins = np.empty(room, np.int32), np.empty(room, np.int32)
    ends, took = np.empty(room, np.int32), np.empty(room, np.int64)
    furthest, let_go = np.full(len(count), -1, np.int8), np.zeros(len(count), np.bool_)
    lead_to = np.zeros(len(follow), np.int64)
    for p in range(len(follow)):
        left = follow[p]
        while left:
            lead_to[_lowest(left)] |= np.int64(1) << p
            left &= left - 1
    found = 0
    for j in range(len(count)):
        if not chosen[j] or count[j] == 0:
            continue
        base, last = first_step[j], first_step[j] + count[j] - 1
        active, reached = np.int64(0), np.int64(0)
        for i in range(base - 1, last + 2):
            letters = _letters_at(masks, of_letter, edges, i, base, last)
            active = (first | _led(follow, active)) & letters
            reached |= active
            if not active & accepting:
                continue
            going, at = active & accepting, i
            while not going & first:
                at -= 1
                letters = _letters_at(masks, of_letter, edges, at, base, last)
                going = _led(lead_to, going) & letters
            journey[found] = j
            begins[found], ends[found] = min(max(at, base), last), min(max(i, base), last)
            took[found] = visible[ends[found]] - visible[begins[found]]
            found += 1
            active = np.int64(0)
        while reached:
            furthest[j] = max(furthest[j], source[_lowest(reached)])
            reached &= reached - 1
    return journey[:found], begins[:found], ends[:found], took[:found], furthest, let_go


@inner_kernel
def _letters_at(
    masks: Column, of_letter: Column, edges: Column, i: int, base: int, last: int
) -> int:
    """The positions that a step fits; before and after all steps, those of the edges."""
    letters = edges[0] if i < base else edges[1] if i > last else edges[0] * 0
    if base <= i <= last:
        for c in range(len(of_letter)):
            letters |= of_letter[c] * masks[c, i]
    return letters


@inner_kernel
def _led(leads: Column, active: Any) -> Any:
    """Where any of these positions lead."""
    found = active * 0
    while active:
        found |= leads[_lowest(active)]
        active &= active - 1
    return found


_PLACES = np.zeros(64, np.int64)
_SEQUENCE = 0x03F79D71B4CB0A89
for _bit in range(64):
    _PLACES[((1 << _bit) * _SEQUENCE % (1 << 64)) >> 58] = _bit


@inner_kernel
def _lowest(mask: Any) -> Any:
    """The lowest bit that is set (by a de Bruijn sequence; Leiserson, Prokop, Randall 1998)."""
    return _PLACES[(np.uint64(mask & -mask) * np.uint64(_SEQUENCE)) >> np.uint64(58)]


@kernel
def _matches(
    masks: Column, of_letter: Column, edges: Column, first: int, accepting: int, follow: Column,
    inside: Column, limit: Column, source: Column, column_of: Column, negated: Column,
    values: Column, visible: Column, first_step: Column, count: Column, start: Column,
    end: Column, chosen: Column,
) -> tuple[Column, Column, Column, Column, Column, Column]:  # fmt: skip
    size, holds = len(follow), column_of.max() >= 0
    slots = HELD + 1 if holds else 1
    active, after = np.zeros(slots, np.int64), np.zeros(slots, np.int64)
    value = np.full(slots, -1, np.int64)
    begun, then = np.zeros((slots, size), np.int64), np.zeros((slots, size), np.int64)
    clock, ticks = np.zeros((slots, size), np.int64), np.zeros((slots, size), np.int64)
    room = len(visible) + 2 * len(count)
    journey, begins = np.empty(room, np.int32), np.empty(room, np.int32)
    ends, took = np.empty(room, np.int32), np.empty(room, np.int64)
    furthest, let_go = np.full(len(count), -1, np.int8), np.zeros(len(count), np.bool_)
    found = 0
    for j in range(len(count)):
        if not chosen[j] or count[j] == 0:
            continue
        base, last = first_step[j], first_step[j] + count[j] - 1
        active[:] = 0
        used, oldest = 1, 1
        busy = False
        for i in range(base - 1, last + 2):
            letters = _letters_at(masks, of_letter, edges, i, base, last)
            now = start[j] if i < base else end[j] if i > last else visible[i]
            if not busy and not (letters & first):
                continue
            for s in range(used):
                after[s] = 0
            known = used  # what is bound now is taken up at the next step
            for s in range(-1, known):
                if s >= 0 and active[s] == 0:
                    continue
                starts = active[s] if s >= 0 else np.int64(1)
                while starts:
                    p = _lowest(starts)
                    starts &= starts - 1
                    leads = (first if s < 0 else follow[p] | inside[p]) & letters
                    while leads:
                        q = _lowest(leads)
                        leads &= leads - 1
                        began = i if s < 0 else begun[s, p]
                        ticked = now
                        if s >= 0 and not (follow[p] >> q) & 1:
                            ticked = clock[s, p]
                            if now - ticked > limit[q]:
                                continue
                        to = max(s, 0)
                        if column_of[q] >= 0:
                            own = values[column_of[q], i]
                            if to:
                                if (own == value[to]) == negated[q] or own < 0:
                                    continue
                            elif negated[q] or own < 0:
                                continue
                            else:
                                to = 1
                                while to < used and value[to] != own:
                                    to += 1
                                if to == used and used < slots:
                                    used += 1
                                    value[to], active[to], after[to] = own, 0, 0
                                elif to == used:
                                    to, let_go[j] = oldest, True
                                    oldest = oldest % HELD + 1
                                    value[to], active[to], after[to] = own, 0, 0
                        bit = np.int64(1) << q
                        if after[to] & bit and not _later(
                            ticked, began, ticks[to, q], then[to, q], limit[q] >= 0
                        ):
                            continue
                        after[to] |= bit
                        then[to, q], ticks[to, q] = began, ticked
                        furthest[j] = max(furthest[j], source[q])
            busy, best = False, np.int64(-1)
            whole = False
            for s in range(used):
                active[s] = after[s]
                busy = busy or active[s] != 0
                left = active[s]
                while left:
                    q = _lowest(left)
                    left &= left - 1
                    begun[s, q], clock[s, q] = then[s, q], ticks[s, q]
                    if (accepting >> q) & 1:
                        best, whole = max(best, begun[s, q]), True
            if whole:
                journey[found] = j
                begins[found], ends[found] = min(max(best, base), last), min(max(i, base), last)
                took[found] = visible[ends[found]] - visible[begins[found]]
                found += 1
                active[:] = 0
                used, oldest, busy = 1, 1, False
    return journey[:found], begins[:found], ends[:found], took[:found], furthest, let_go


@inner_kernel
def _later(ticked: int, began: int, other_tick: int, other_began: int, limited: bool) -> bool:
    """Whether of two ways to one position this is the better: its clock, or its start, is later."""
    if limited and ticked != other_tick:
        return ticked > other_tick
    return began > other_began


def _fits(steps: Steps, condition: Condition) -> Mask:
    """Which steps fit a condition, but for the values that it holds; shape (steps,)."""
    found = [_fit_all(steps, tests) for tests in condition.any]
    fits = found[0] if len(found) == 1 else np.logical_or.reduce(found)
    return ~fits if condition.negated else fits


def _fit_all(steps: Steps, tests: Sequence[Test]) -> Mask:
    found = [_fit(steps, test) for test in tests if not test.held]
    if not found:
        return np.ones(len(steps.screen), bool)
    return found[0] if len(found) == 1 else np.logical_and.reduce(found)


def _fit(steps: Steps, test: Test) -> Mask:
    fits = _KEYS[test.key](steps, test) if test.key in _KEYS else _named(steps, test)
    return ~fits if test.negated else fits


def _of_names(names: Sequence[str], codes: NDArray[np.generic], test: Test) -> Mask:
    """Which codes stand for one of the values; −1 stands for none."""
    fits = np.array([name in test.values for name in [*names, None]], bool)
    return np.asarray(fits[codes])


def _number(values: NDArray[Any], test: Test) -> Mask:
    """Which numbers compare so; −1 is unknown, and fits nothing."""
    wanted = float(test.values[0])
    compared = {
        "=": values == wanted,
        "<": values < wanted,
        ">": values > wanted,
        "<=": values <= wanted,
        ">=": values >= wanted,
    }[test.operator]
    return np.asarray(compared & (values != UNKNOWN_TIME))


def _below(steps: Steps) -> NDArray[np.int32]:
    own = steps.steps.below
    return np.where(own == NONE, NONE, steps.entries.screen[own]).astype("i4")


def _stack(steps: Steps, test: Test) -> Mask:
    wanted = np.array([name in test.values for name in steps.places.names], bool)
    entries = steps.entries
    return np.asarray(_lies_under(entries.screen, entries.below, wanted)[steps.steps.entry])


@kernel
def _lies_under(screen: Column, below: Column, wanted: Column) -> Mask:
    """Which entries have such a screen further down."""
    found = np.zeros(len(screen), np.bool_)
    for x in range(len(screen)):
        if below[x] != NONE:
            found[x] = found[below[x]] or wanted[screen[below[x]]]
    return found


def _marks(steps: Steps, test: Test) -> Mask:
    bits = sum(MARK[mark] for mark in test.values)
    return np.asarray(steps.steps.marks & bits != 0)


def _link(steps: Steps, test: Test) -> Mask:
    """Where a link led, or what it was answered by: any, or one of these addresses."""
    uris = steps.log.terms["uri"]
    fits = np.array(["any" in test.values or uri in test.values for uri in [*uris, None]], bool)
    fits[-1] = False
    return np.asarray(fits[steps.steps.uri])


def _events(steps: Steps, test: Test) -> Mask:
    found = np.zeros(len(steps.screen), bool)
    for value in test.values:
        found |= rows_of_steps(steps, clause_of(value, ":")) > 0
    return found


def _exit(steps: Steps, test: Test) -> Mask:
    found = np.zeros(len(steps.screen), bool)
    some = steps.journeys.steps > 0
    found[steps.last_steps()] = _of_names(EXITS, steps.journeys.exit[some], test)
    return found


def _start(steps: Steps, test: Test) -> Mask:
    found = np.zeros(len(steps.screen), bool)
    some = np.flatnonzero(steps.journeys.steps > 0)
    fits = _of_names(STARTS, steps.journeys.start_kind[some], test)
    if "link" in test.values:
        fits |= steps.began_by_link[some]
    found[steps.journeys.first_step[some]] = fits
    return found


def _after_return(steps: Steps, test: Test) -> Mask:
    """Time from the last return from the background until the step was left."""
    log, own, journeys = steps.log.columns, steps.steps, steps.journeys
    back = np.flatnonzero(log["event"] == EVENT["app_foreground"])
    step = np.searchsorted(own.first_row, back, "right") - 1
    since = np.full(len(own.entry), UNKNOWN_TIME, "i8")
    # A journey that shows nothing has rows too, and no step.
    ends = np.append(journeys.first_row + journeys.rows, 0)[np.append(own.journey, NONE)[step]]
    inside = back < ends
    since[step[inside]] = log["time"][back[inside]]  # rows are in order, so the last one stays
    until = steps.until
    until = np.where(until == UNKNOWN_TIME, steps.journeys.end[own.journey], until)
    return _number(np.where(since == UNKNOWN_TIME, UNKNOWN_TIME, until - since), test)


_KEYS: dict[str, Callable[[Steps, Test], Mask]] = {
    "screen": lambda s, test: _of_names(s.places.names, s.screen, test),
    "role": lambda s, test: _of_names(ROLES, s.role, test),
    "tab": lambda s, test: _of_names(s.places.tab_names, s.tab, test),
    "reported": lambda s, test: _of_names(s.places.tab_names, s.steps.tab_reported, test),
    "move": lambda s, test: _of_names(MOVES, s.steps.move, test),
    "region": lambda s, test: _of_names(REGIONS, s.entries.region[s.steps.entry], test),
    "mark": _marks,
    "link": _link,
    "source": lambda s, test: _of_names(s.log.terms["source"], s.steps.source, test),
    "event": _events,
    "failed": lambda s, test: _number(failed_tries(s), test),
    "exit": _exit,
    "start": _start,
    "wanted": lambda s, test: _of_names(s.places.names, s.steps.wanted, test),
    "below": lambda s, test: _of_names(s.places.names, _below(s), test),
    "stack": _stack,
    "depth": lambda s, test: _number(s.entries.depth[s.steps.entry], test),
    "repeats": lambda s, test: _number(s.steps.repeats, test),
    "refused": lambda s, test: _number(s.steps.refused, test),
    "load": lambda s, test: _number(s.load, test),
    "dwell": lambda s, test: _number(s.dwell, test),
    "after_return": _after_return,
}
KEYS = tuple(_KEYS)
TIMES = ("load", "dwell", "after_return")
NUMBERS = (*TIMES, "depth", "repeats", "refused", "failed")
HOLDABLE = ("screen", "wanted", "below", "tab", "reported")
"""Keys whose value can be held; so can params and properties."""


def _named(steps: Steps, test: Test) -> Mask:
    """A param (`param.NAME`) or a property of the row that made the step (`prop.NAME`)."""
    texts, codes, name = _objects(steps, test.key)
    own = [members(text).get(name) for text in texts]
    return np.asarray(np.array([value in test.values for value in [*own, None]], bool)[codes])


def _objects(steps: Steps, key: str) -> tuple[Sequence[str], NDArray[np.int32], str]:
    kind, _, name = key.partition(".")
    if kind == "param":
        return steps.places.params, steps.params, name
    return steps.log.terms["props"], steps.log.columns["props"][steps.made_by], name


def _held_values(steps: Steps, keys: Sequence[str]) -> NDArray[np.int32]:
    """Per key, the value of each step as a code, -1 for none; shape (keys, steps).

    What is spelled alike has the same code, whatever the key.
    """
    shared: dict[str | None, int] = {None: NONE}
    found = np.empty((max(len(keys), 1), len(steps.screen)), "i4")
    for i, key in enumerate(keys):
        names, codes = _spelled(steps, key)
        found[i] = np.array([shared.setdefault(n, len(shared)) for n in [*names, None]], "i4")[
            codes
        ]
    return found


def _spelled(steps: Steps, key: str) -> tuple[Sequence[str | None], NDArray[np.int32]]:
    screens = {"screen": steps.screen, "wanted": steps.steps.wanted}
    if key in screens or key == "below":
        return steps.places.names, _below(steps) if key == "below" else screens[key]
    if key in ("tab", "reported"):
        return steps.places.tab_names, steps.tab if key == "tab" else steps.steps.tab_reported
    texts, codes, name = _objects(steps, key)
    return [members(text).get(name) for text in texts], codes
