"""Loops: returns to a screen through others, by kind, and screens that people do not get out of.

A loop is a cycle of screens, each once, that a journey walks until it is back where it began; the
same cycle entered elsewhere is the same loop, so its screens are turned until the one with the
smallest number in the map comes first. One after the other without anything between are its turns.

Its kind is that of its first turn: with redirects, and nowhere back, it is a *redirect_loop* if
they are half of its moves or more; by tabs all the way (*tab_flip*). Else the return tells: by
a redirect (*sent_again*, the user went on in between), by the choice of a tab (*by_tab*), by going
back, or by a move onward that *piled_up* another copy. Back and forth between two screens is a
*ping_pong* from the second turn on, as one turn is but a look; longer ones by back, or by a
browser's forward, are a *detour*.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property, lru_cache
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.kernel import inner_kernel, kernel
from mossy_trail.core.measures.cells import Cells, Grid, Words, cells, picked
from mossy_trail.core.model.log import NONE, SECOND, Column
from mossy_trail.core.model.steps import MARK, MOVE, Steps

KINDS = ("ping_pong", "detour", "piled_up", "tab_flip", "by_tab", "redirect_loop", "sent_again")
_PING_PONG, _DETOUR, _PILED, _FLIP, _BY_TAB, _REDIRECTS, _SENT_AGAIN = range(len(KINDS))
LONGEST = 6
"""Screens in a loop, at the most."""
MISTAKE = 3 * SECOND
_REDIRECT, _SWITCH = MOVE["redirect"], MOVE["switch_tab"]
_POP, _POP_TO, _CLOSE = MOVE["pop"], MOVE["pop_to"], MOVE["close_modal"]
_FORWARD = MOVE["forward"]


class Loops(NamedTuple):
    """Loops in order of the journeys; arrays of shape (loops,). `key` tells the cycle of screens,
    `took` is in microseconds; `ended` says that the journey ended with it, and `beyond` that it
    went on to a screen that is none of the loop's."""

    journey: NDArray[np.int32]
    key: NDArray[np.int64]
    kind: NDArray[np.int8]
    turns: NDArray[np.int32]
    took: NDArray[np.int64]
    first: NDArray[np.int32]
    last: NDArray[np.int32]
    ended: NDArray[np.bool_]
    beyond: NDArray[np.bool_]


def loops(steps: Steps, inside: NDArray[np.bool_]) -> Loops:
    """The loops of the journeys `inside`; linear in steps."""
    size = len(steps.places.names)
    longest = min(LONGEST, int(60 / np.log2(size + 2)))
    own = steps.steps
    return Loops(*_loops(steps.screen, own.move, own.visible, own.journey, inside, size, longest))


@lru_cache(100_000)
def screens_of(key: int, size: int) -> tuple[int, ...]:
    """The cycle that a key stands for, of an app with so many screens."""
    found = []
    while key:
        key, screen = divmod(key, size + 1)
        found.append(screen - 1)
    return tuple(found[::-1])


@kernel
def _loops(
    screen: Column,
    move: Column,
    visible: Column,
    journey: Column,
    inside: Column,
    size: int,
    longest: int,
) -> tuple[Column, Column, Column, Column, Column, Column, Column, Column, Column]:
    n = len(screen)
    own, key, kind = np.empty(n, np.int32), np.empty(n, np.int64), np.empty(n, np.int8)
    turns, took = np.empty(n, np.int32), np.empty(n, np.int64)
    first, last = np.empty(n, np.int32), np.empty(n, np.int32)
    ended, beyond = np.empty(n, np.bool_), np.empty(n, np.bool_)
    seen = np.full(size, -1, np.int64)
    made, begin, returns, length, walked = 0, 0, 0, 1, -1
    for i in range(n + 1):
        if i < n:
            if i > 0 and journey[i] != journey[i - 1]:
                begin = i
            before = seen[screen[i]]
            seen[screen[i]] = i
            if before < begin or not 2 <= i - before <= longest or not inside[journey[i]]:
                continue
            if i - before > 2 and not _each_once(screen, before, i):
                continue
            cycle = _canonical(screen, before, i, size)
            if returns and last[made] == i - 1 and walked == cycle:
                returns += 1
                last[made] = i
                continue
        if returns:
            begun, end = first[made], last[made]
            own[made], key[made], turns[made] = journey[end], walked, 1 + (returns - 1) // length
            kind[made] = _kind(move, begun, begun + length)
            ended[made] = end + 1 == n or journey[end + 1] != journey[end]
            until = end if ended[made] else end + 1
            took[made] = visible[until] - visible[begun]
            beyond[made] = _goes_beyond(screen, journey, begun, begun + length, end + 1)
            made += kind[made] != _PING_PONG or turns[made] > 1  # else it was but a look
        if i < n:
            returns, length, walked = 1, i - before, cycle
            first[made], last[made] = before, i
    return (
        own[:made], key[:made], kind[:made], turns[:made], took[:made], first[:made], last[:made],
        ended[:made], beyond[:made],
    )  # fmt: skip


@inner_kernel
def _goes_beyond(screen: Column, journey: Column, begin: int, end: int, after: int) -> bool:
    """Whether the journey shows another screen than those of the loop from `after` on."""
    i = after
    while i < len(screen) and journey[i] == journey[begin]:
        known = False
        for j in range(begin, end):
            known = known or screen[j] == screen[i]
        if not known:
            return True
        i += 1
    return False


@inner_kernel
def _each_once(screen: Column, begin: int, end: int) -> bool:
    for i in range(begin, end):
        for j in range(i + 1, end):
            if screen[i] == screen[j]:
                return False
    return True


@inner_kernel
def _canonical(screen: Column, begin: int, end: int, size: int) -> int:
    """The cycle as a number: its screens from the smallest on."""
    least = begin
    for i in range(begin, end):
        if screen[i] < screen[least]:
            least = i
    number = 0
    for k in range(end - begin):
        at = least + k if least + k < end else least + k - (end - begin)
        number = number * (size + 1) + screen[at] + 1
    return number


@inner_kernel
def _kind(move: Column, begin: int, end: int) -> int:
    back, switches, redirects, backs = move[end], True, 0, False
    for i in range(begin + 1, end + 1):
        switches = switches and move[i] == _SWITCH
        redirects += move[i] == _REDIRECT
        backs = backs or _is_back(move[i])
    if redirects and not backs and 2 * redirects >= end - begin:
        return _REDIRECTS
    if switches:
        return _FLIP
    if backs and end - begin == 2:
        return _PING_PONG  # from either side: there and back, or back and in again
    if back == _REDIRECT:
        return _SENT_AGAIN
    if back == _SWITCH:
        return _BY_TAB
    if _is_back(back) or back == _FORWARD:
        return _DETOUR
    return _PILED


@inner_kernel
def _is_back(move: int) -> bool:
    return move == _POP or move == _POP_TO or move == _CLOSE


class Cycles:
    """Loops named by their kind and screens; numbered by `numbers_of`."""

    size = 2**63 - 1

    def __init__(self, screens: Sequence[str]) -> None:
        self._screens = screens

    def name(self, number: int) -> Words:
        cycle, kind = divmod(number, len(KINDS))
        own = (self._screens[screen] for screen in screens_of(cycle, len(self._screens)))
        return (KINDS[kind], *own)

    @cached_property
    def _codes(self) -> dict[str, int]:
        return {screen: code for code, screen in enumerate(self._screens)}

    def number(self, name: Words) -> int:
        cycle, codes = 0, self._codes
        if not name or name[0] not in KINDS or any(word not in codes for word in name[1:]):
            return NONE
        screens = [codes[word] for word in name[1:]]
        least = screens.index(min(screens)) if screens else 0
        for screen in screens[least:] + screens[:least]:
            cycle = cycle * (len(codes) + 1) + screen + 1
        return cycle * len(KINDS) + KINDS.index(name[0])


def numbers_of(found: Loops) -> NDArray[np.int64]:
    return found.key * len(KINDS) + found.kind


def label(steps: Steps, inside: NDArray[np.bool_]) -> tuple[dict[str, Cells], Loops]:
    """Cells of screens: `visits`, `backs` (left by going back), `mistake` (so in under 3 s),
    `dead_end`, `stuck`, `piled`; `went_back` from any; of loops their `kind`, and `loop`, `ended`
    (the journey did, with it) and `beyond` (it went on to another screen); and the loops."""
    own, by_screen, cycles = steps.steps, Grid(steps.places.names), Cycles(steps.places.names)
    found, left = loops(steps, inside), _left(own.move, own.journey, steps.dwell, inside)
    marks = np.where(left > 0, own.marks, 0)
    masks = {"visits": left > 0, "backs": left > 1, "mistake": left > 2}
    masks |= {word: marks & MARK[mark] != 0 for word, mark in _ODD.items()}
    numbers = numbers_of(found)
    then = {"loop": found.turns > 0, "ended": found.ended, "beyond": found.beyond}
    anywhere = np.zeros(len(steps.screen), "i4")
    return {
        "went_back": picked(Grid([""]), masks["backs"], anywhere, own.journey),
        "kind": cells(Grid(KINDS), found.kind, found.journey),
        **{
            word: picked(by_screen, mask, steps.screen, own.journey) for word, mask in masks.items()
        },
        **{
            word: cells(cycles, np.where(mask, numbers, NONE), found.journey)
            for word, mask in then.items()
        },
    }, found


_ODD = {"dead_end": "dead_end", "stuck": "stuck", "piled": "piled_up"}


@kernel
def _left(move: Column, journey: Column, dwell: Column, inside: Column) -> NDArray[np.uint8]:
    """Per step of a journey inside 1; left by going back 2, and that in no time 3."""
    found = np.zeros(len(move), np.uint8)
    for i in range(len(move)):
        if not inside[journey[i]]:
            continue
        found[i] = 1
        if i + 1 < len(move) and journey[i + 1] == journey[i]:
            after = move[i + 1]
            if _is_back(after):
                found[i] = 3 if dwell[i] < MISTAKE else 2
    return found
