"""Loops: returns to a screen through others, by kind, and screens that people do not get out of.

A loop is a cycle of screens, each once, that a journey walks until it is back where it began; the
same cycle entered elsewhere is the same loop, so its screens are turned until the one with the
smallest number in the map comes first. One after the other without anything between are its turns.

Its kind is that of its first turn: with a redirect, and nowhere back (*redirect_loop*); by tabs
all the way (*tab_flip*); else by the return, which is a way back, or forward, and *piled_up*
another copy. Back and forth between two screens is a *ping_pong* from the second turn on, as one
turn is but a look; longer ones by back are a *detour*.
"""

from __future__ import annotations

from functools import lru_cache
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.kernel import inner_kernel, kernel
from mossy_trail.core.log import SECOND, Column
from mossy_trail.core.measures.cells import Cells, cells, joined, named
from mossy_trail.core.steps import MARK, MOVE, Steps

KINDS = ("ping_pong", "detour", "piled_up", "tab_flip", "redirect_loop")
_PING_PONG, _DETOUR, _PILED, _FLIP, _REDIRECTS = range(len(KINDS))
LONGEST = 6
"""Screens in a loop, at the most."""
MISTAKE = 3 * SECOND
_REDIRECT, _SWITCH = MOVE["redirect"], MOVE["switch_tab"]
_POP, _POP_TO, _CLOSE = MOVE["pop"], MOVE["pop_to"], MOVE["close_modal"]


class Loops(NamedTuple):
    """Loops in order of the journeys; arrays of shape (loops,). `key` tells the cycle of screens,
    `took` is in microseconds, and `ended` says that the journey ended with it."""

    journey: NDArray[np.int32]
    key: NDArray[np.int64]
    kind: NDArray[np.int8]
    turns: NDArray[np.int32]
    took: NDArray[np.int64]
    first: NDArray[np.int32]
    last: NDArray[np.int32]
    ended: NDArray[np.bool_]


def loops(steps: Steps, inside: NDArray[np.bool_]) -> Loops:
    """The loops of the journeys `inside`; linear in steps."""
    size = len(steps.places.names)
    longest = min(LONGEST, int(62 / np.log2(size + 2)))
    own = steps.steps
    found = Loops(*_loops(steps.screen, own.move, own.visible, own.journey, inside, size, longest))
    kept = (found.turns > 1) | (found.kind != _PING_PONG)
    return Loops(*(column[kept] for column in found))


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
) -> tuple[Column, Column, Column, Column, Column, Column, Column, Column]:
    n = len(screen)
    own, key, kind = np.empty(n, np.int32), np.empty(n, np.int64), np.empty(n, np.int8)
    turns, took = np.empty(n, np.int32), np.empty(n, np.int64)
    first, last, ended = np.empty(n, np.int32), np.empty(n, np.int32), np.zeros(n, np.bool_)
    seen = np.full(size, -1, np.int64)
    made, returns, length = 0, 0, 0
    begin = 0
    for i in range(n):
        if i == 0 or journey[i] != journey[i - 1]:
            begin = i
        before = seen[screen[i]]
        seen[screen[i]] = i
        if not inside[journey[i]] or before < begin or not 2 <= i - before <= longest:
            continue
        if not _each_once(screen, before, i):
            continue
        cycle = _canonical(screen, before, i, size)
        goes_on = made and last[made - 1] == i - 1 and key[made - 1] == cycle
        if goes_on:
            returns += 1
            turns[made - 1] = 1 + (returns - 1) // length
        else:
            returns, length = 1, i - before
            own[made], key[made], kind[made] = journey[i], cycle, _kind(move, before, i)
            turns[made], first[made] = 1, before
            made += 1
        last[made - 1] = i
        took[made - 1] = visible[i] - visible[first[made - 1]]
        ended[made - 1] = i + 1 == n or journey[i + 1] != journey[i]
        if not ended[made - 1]:
            took[made - 1] = visible[i + 1] - visible[first[made - 1]]
    return (
        own[:made], key[:made], kind[:made], turns[:made], took[:made], first[:made], last[:made],
        ended[:made],
    )  # fmt: skip


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
    back, switches, redirects, backs = move[end], True, False, False
    for i in range(begin + 1, end + 1):
        switches = switches and move[i] == _SWITCH
        redirects = redirects or move[i] == _REDIRECT
        backs = backs or move[i] == _POP or move[i] == _POP_TO or move[i] == _CLOSE
    if redirects and not backs:
        return _REDIRECTS
    if switches:
        return _FLIP
    if back == _POP or back == _POP_TO or back == _CLOSE:
        return _PING_PONG if end - begin == 2 else _DETOUR
    before = move[end - 1]
    if end - begin == 2 and (before == _POP or before == _POP_TO or before == _CLOSE):
        return _PING_PONG  # seen from the other side: back, and in again
    return _PILED


def label(steps: Steps, inside: NDArray[np.bool_]) -> tuple[Cells, Loops]:
    """Cells of screens: `visits`, `backs` (left by going back), `mistake` (so in under 3 s),
    `dead_end`, `stuck`, `piled`; and the loops, each `loop`, KIND, screens…; `ended` with it."""
    own, names = steps.steps, steps.places.names
    inner = inside[own.journey]
    after = np.append(own.move[1:], 0)
    same = np.append(own.journey[1:] == own.journey[:-1], False)
    back = inner & same[: len(inner)] & np.isin(after[: len(inner)], (_POP, _POP_TO, _CLOSE))
    quick = back & (steps.dwell < MISTAKE)
    found = loops(steps, inside)
    marked = {
        word: inner & (own.marks & MARK[mark] != 0)
        for word, mark in (("dead_end", "dead_end"), ("stuck", "stuck"), ("piled", "piled_up"))
    }
    masks = {"visits": inner, "backs": back, "mistake": quick, **marked}
    some = [named(w, names, steps.screen[m], own.journey[m]) for w, m in masks.items()]
    return joined([*some, *_of_loops(found, names)]), found


def _of_loops(found: Loops, names: list[str]) -> list[Cells]:
    both = found.key * len(KINDS) + found.kind
    keys, code = np.unique(both, return_inverse=True)
    words = []
    for key in keys.tolist():
        cycle, kind = divmod(key, len(KINDS))
        words.append((KINDS[kind], *(names[s] for s in screens_of(cycle, len(names)))))
    ended = found.ended
    return [
        cells([("loop", *word) for word in words], code, found.journey),
        cells([("ended", *word) for word in words], code[ended], found.journey[ended]),
    ]
