"""Paths: what comes after a place in journeys, or before it, as walked and as kept.

As walked, a journey is all its steps. As kept, it is those that "back" did not undo: a move back
takes entries off a stack, and the steps that showed them are left out; coming back onto what was
visible before them is no step either. The replayed stacks tell which entries these are.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal, NamedTuple
from weakref import WeakKeyDictionary

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.kernel import inner_kernel, kernel
from mossy_trail.core.model.app_map import ROLES
from mossy_trail.core.model.conditions import clause_of, rows_of_steps
from mossy_trail.core.model.log import NONE, Column
from mossy_trail.core.model.steps import (
    EXITS,
    GOES_BACK,
    MOVE,
    MOVES,
    OUTSIDE,
    REGIONS,
    SHEET,
    STARTS,
    TAB,
    Steps,
)

Mask = NDArray[np.bool_]
AT = ("screen", "entry", "event", "exit")
READINGS = ("walked", "kept")
NODES = ("screen", "role", "tab")


@dataclass(frozen=True)
class Asked:
    """Which paths: `forward` from a place in each journey, or backward to it, `deep` nodes further.

    The place `at` which they begin is the first time that a screen is shown (`what` is its name),
    the first row of an event (`what` is its word, or one of ours and an outcome), the journey's
    entry (`what` is empty for any, or cold, warm or link), or its exit (`what` is empty for any, or
    a word of `EXITS`); with a `screen`, only if that happens on it. With `repeats`, nodes that are
    alike and follow each other stand one by one. Only `whole` paths go on to the journey's end, or
    come from its beginning, further than `deep` needs.
    """

    at: Literal["screen", "entry", "event", "exit"] = "entry"
    what: str = ""
    screen: str = ""
    forward: bool = True
    deep: int = 5
    reading: Literal["walked", "kept"] = "walked"
    nodes: Literal["screen", "role", "tab"] = "screen"
    repeats: bool = False
    whole: bool = False


class Paths(NamedTuple):
    """The paths of a part, one a journey that has the place at which they begin.

    `nodes` has all nodes of all paths; path i runs from `begin[i]`, where it starts, up to
    `end[i]`, and is read from the last one where it leads backward. `hidden` is how many steps
    that were taken back were made from a node. `taken_back` are the journeys whose every such
    place was taken back, so that they have no path as kept.
    """

    journey: NDArray[np.int32]
    begin: NDArray[np.int64]
    end: NDArray[np.int64]
    nodes: NDArray[np.int32]
    hidden: NDArray[np.int32]
    taken_back: NDArray[np.int32]


def node_names(steps: Steps, nodes: str) -> list[str]:
    """The names of nodes by their codes."""
    if nodes == "role":
        return list(ROLES)
    return [*steps.places.tab_names, *_NO_TAB] if nodes == "tab" else steps.places.names


_IN_PLACE = np.isin(np.arange(len(MOVES)), [MOVE[m] for m in ("replace", "update", "redirect")])
"""Per move, whether what it leads to may stand in the place of what was visible."""
_NO_TAB = tuple(REGIONS[region] for region in (OUTSIDE, SHEET))


def _nodes_of(steps: Steps, nodes: str) -> NDArray[np.int32]:
    """The node of each step; shape (steps,)."""
    if nodes == "screen":
        return steps.screen
    if nodes == "role":
        return steps.role.astype("i4")
    region = steps.entries.region[steps.steps.entry]
    other = len(steps.places.tab_names) + (region == SHEET)
    return np.where(region == TAB, steps.tab, other).astype("i4")


def kept(steps: Steps) -> Mask:
    """Which steps no later move back of their journey undid; shape (steps,), linear in them.

    It is the same for every question, and remembered as long as the steps are.
    """
    if steps not in _KEPT:
        own, entries = steps.steps, steps.entries
        _KEPT[steps] = _kept(
            own.entry,
            own.move,
            own.journey,
            entries.below,
            entries.region,
            entries.tab,
        )
    return _KEPT[steps]


_KEPT: WeakKeyDictionary[Steps, Mask] = WeakKeyDictionary()


@kernel
def _kept(
    entry: Column,
    move: Column,
    journey: Column,
    below: Column,
    region: Column,
    tab: Column,
) -> Mask:
    root, level = _tree(below)
    place = np.arange(len(below), dtype=np.int32)
    taken_off = np.full(len(below), -1, np.int64)
    found = np.ones(len(entry), np.bool_)
    begin = 0
    for i in range(len(entry) + 1):
        if i == len(entry) or journey[i] != journey[begin]:
            for j in range(begin, i):
                found[j] &= taken_off[place[entry[j]]] < j
            begin = i
        elif i > begin and entry[i] != entry[i - 1]:
            old, new = entry[i - 1], entry[i]
            if not GOES_BACK[move[i]]:
                alike = (region[old] == SHEET) == (region[new] == SHEET)
                if below[new] == NONE:
                    alike = region[old] == region[new] and tab[old] == tab[new]
                if alike and below[old] == below[new] and _IN_PLACE[move[i]]:
                    place[new] = place[old]  # it took its place, and goes when that goes
                continue
            found[i - 1] = False
            straight = root[old] == root[new]
            while old != NONE:
                if straight and level[old] <= level[new]:
                    break
                if not straight and (region[old] == TAB or region[old] != region[entry[i - 1]]):
                    break
                taken_off[place[old]] = i
                old = below[old]
    return found


@kernel
def _tree(below: Column) -> tuple[Column, Column]:
    """Per entry the lowest of those that it lies on, a sheet on what it covers; and how many."""
    root, level = np.empty(len(below), np.int32), np.zeros(len(below), np.int32)
    for x in range(len(below)):
        root[x] = x
        if below[x] != NONE:
            root[x], level[x] = root[below[x]], level[below[x]] + 1
    return root, level


def paths(steps: Steps, asked: Asked, chosen: Mask, once: bool = False) -> Paths:
    """The paths of the journeys `chosen`; of each user the first alone, if asked for `once`."""
    own, journeys = steps.steps, steps.journeys
    places = _places(steps, asked)
    folds = asked.reading == "kept"
    stays = kept(steps) if folds else np.ones(1, bool)
    back = GOES_BACK[own.move] if folds else np.zeros(1, bool)
    journey, begin, end, nodes, hidden, lost = _paths(
        _nodes_of(steps, asked.nodes),
        own.entry,
        back,
        stays,
        places,
        asked.at,
        journeys.first_step,
        journeys.steps,
        chosen,
        asked.forward,
        folds,
        asked.repeats,
        0 if asked.whole else asked.deep + 2,
    )
    if once:
        first = _first_of_each(journeys.user[journey])
        journey, begin, end = journey[first], begin[first], end[first]
        lost = lost[~np.isin(journeys.user[lost], journeys.user[journey])]
        lost = lost[_first_of_each(journeys.user[lost])]
    return Paths(journey, begin, end, nodes, hidden, lost)


def _first_of_each(user: NDArray[np.int32]) -> Mask:
    """Which are the first of their user, given users in order."""
    return np.append(True, user[1:] != user[:-1])[: len(user)]


def _places(steps: Steps, asked: Asked) -> Mask:
    """The steps at which paths may begin; shape (steps,)."""
    on = _on(steps, asked.screen)
    if asked.at == "screen":
        return on & _on(steps, asked.what)
    if asked.at == "event":
        return on & (rows_of_steps(steps, clause_of(asked.what, " ")) > 0)
    journeys = steps.journeys
    some = np.flatnonzero(journeys.steps > 0)
    if asked.at == "entry":
        if asked.what == "link":
            some = some[steps.began_by_link[some]]
        elif asked.what:
            some = some[journeys.start_kind[some] == STARTS.index(asked.what)]
        at = journeys.first_step[some]
    else:
        if asked.what:
            some = some[journeys.exit[some] == EXITS.index(asked.what)]
        at = journeys.first_step[some] + journeys.steps[some] - 1
    found = np.zeros(len(on), bool)
    found[at] = on[at]
    return found


def _on(steps: Steps, screen: str) -> Mask:
    """Steps on this screen; all, where it has no name."""
    if not screen:
        return np.ones(len(steps.screen), bool)
    fits = np.array([screen == name for name in steps.places.names], bool)
    return np.asarray(fits[steps.screen])


@kernel
def _paths(
    node: Column,
    entry: Column,
    back: Column,
    stays: Column,
    places: Column,
    kind: str,
    first_step: Column,
    count: Column,
    chosen: Column,
    forward: bool,
    folds: bool,
    repeats: bool,
    most: int,
) -> tuple[Column, Column, Column, Column, Column, Column]:
    size = len(node) + 1
    nodes, hidden = np.empty(size, np.int32), np.zeros(size, np.int32)
    journey, lost = np.empty(len(count), np.int32), np.empty(len(count), np.int32)
    begins, ends = np.empty(len(count), np.int64), np.empty(len(count), np.int64)
    filled, found, taken = 0, 0, 0
    at_start, at_end = kind == "entry", kind == "exit"
    for j in range(len(count)):
        if not chosen[j]:
            continue
        begin, at, missed, last = filled, -1, False, -1
        if at_start and count[j] and places[first_step[j]]:
            at = begin  # of what was kept, if that first step was not
        for i in range(first_step[j], first_step[j] + count[j]):
            if folds and not stays[i]:
                missed = missed or places[i]
                if filled > begin:
                    hidden[filled - 1] += 1
                continue
            returns = folds and back[i] and last >= 0 and entry[last] == entry[i]
            again = not repeats and last >= 0 and node[last] == node[i]
            if last < 0 or not (returns or again):
                nodes[filled] = node[i]
                if folds:
                    hidden[filled] = 0
                filled += 1
            last = i
            if places[i] and (at < 0 or at_end):
                at = filled - 1
            if at >= 0 and not forward and not at_end:
                break  # what came before it is all that is asked
            if at >= 0 and most and filled - at >= most and not at_end:
                break  # it is known that the path goes on
        if at < 0:
            filled = begin
            if missed:
                lost[taken] = j
                taken += 1
            continue
        journey[found] = j
        begins[found], ends[found] = (at, filled) if forward else (begin, at + 1)
        found += 1
    return (
        journey[:found], begins[:found], ends[:found], nodes[:filled], hidden[:filled],
        lost[:taken],
    )  # fmt: skip


class Windows(NamedTuple):
    """What stands near to where paths begin. `nodes` has shape (deep + 1, paths): after the last
    node stands the number of nodes that there are, and what `ends` has of the path, then -1;
    `detour` says that steps which were taken back were made from there. `counts`, of shape
    (deep + 1, nodes + 2), and `detours`, of shape (deep + 1, nodes), say how often each is there.
    """

    nodes: NDArray[np.int32]
    detour: NDArray[np.bool_]
    counts: NDArray[np.int64]
    detours: NDArray[np.int64]


def windows(found: Paths, asked: Asked, ends: NDArray[np.integer[Any]], size: int) -> Windows:
    """What stands up to `deep` from where paths begin, of `size` nodes that there are; `ends` is
    how each path went out: 0 or 1."""
    own = found.nodes, found.hidden, found.begin, found.end, ends.astype("i4")
    return Windows(*_windows(*own, asked.forward, asked.deep + 1, size))


@kernel
def _windows(
    nodes: Column, hidden: Column, begin: Column, end: Column, ends: Column, forward: bool,
    wide: int, size: int,
) -> tuple[Column, Column, Column, Column]:  # fmt: skip
    shown = np.full((wide, len(begin)), -1, np.int32)
    detour = np.zeros((wide, len(begin)), np.bool_)
    counts, detours = np.zeros((wide, size + 2), np.int64), np.zeros((wide, size), np.int64)
    for i in range(len(begin)):
        length = end[i] - begin[i]
        for k in range(min(wide, length + 1)):
            if k == length:
                shown[k, i] = size + ends[i]
            else:
                at = begin[i] + k if forward else end[i] - 1 - k
                shown[k, i] = nodes[at]
                if hidden[at] > 0:
                    detour[k, i] = True
                    detours[k, nodes[at]] += 1
            counts[k, shown[k, i]] += 1
    return shown, detour, counts, detours


def flows(found: Windows, place: NDArray[np.int32], most: int) -> NDArray[np.int64]:
    """How many paths lead from each place of a column to each of the next.

    `place` is that of each node in each column, below `most`; shape (deep + 1, nodes + 2).
    Returned with shape (deep, most, most).
    """
    return _flows(found.nodes, place, most)


@kernel
def _flows(nodes: Column, place: Column, most: int) -> Column:
    counts = np.zeros((len(nodes) - 1, most, most), np.int64)
    for k in range(len(nodes) - 1):
        for i in range(nodes.shape[1]):
            if nodes[k, i] >= 0 and nodes[k + 1, i] >= 0:
                counts[k, place[k, nodes[k, i]], place[k + 1, nodes[k + 1, i]]] += 1
    return counts


class Alike(NamedTuple):
    """Groups of paths with the same nodes: their `sizes`, one of each, and a number of the
    nodes; arrays of shape (groups,)."""

    sizes: NDArray[np.int64]
    one: NDArray[np.int64]
    number: NDArray[np.int64]


def alike(found: Paths, asked: Asked, deep: int | None = None) -> Alike:
    """Group paths by all their nodes, or by as many as lie up to `deep` from where they begin.

    Exact: paths of a group are compared node by node. Linear in the nodes compared.
    """
    return Alike(*_alike(found.nodes, *_up_to(found.begin, found.end, asked, deep)))


Places = NDArray[np.int64]


def _up_to(begin: Places, end: Places, asked: Asked, deep: int | None) -> tuple[Places, Places]:
    """As much of paths as lies up to `deep` from where they begin."""
    if deep is None:
        return begin, end
    if asked.forward:
        return begin, np.minimum(end, begin + deep + 1)
    return np.maximum(begin, end - deep - 1), end


@kernel
def _alike(nodes: Column, begin: Column, end: Column) -> tuple[Column, Column, Column]:
    bits = 1
    while (1 << bits) < 2 * len(begin) + 2:
        bits += 1
    table = np.full(1 << bits, -1, np.int32)
    count, one = np.zeros(len(begin), np.int64), np.empty(len(begin), np.int64)
    number, groups = np.empty(len(begin), np.int64), 0
    for i in range(len(begin)):
        mixed = end[i] - begin[i]
        for k in range(begin[i], end[i]):
            mixed = (mixed ^ (nodes[k] + 1)) * 6364136223846793005
            mixed ^= (mixed >> 29) & 0x7FFFFFFFF
        at = (mixed ^ (mixed >> 32)) & ((1 << bits) - 1)
        while table[at] >= 0 and (
            number[table[at]] != mixed or not _same(nodes, begin, end, one[table[at]], i)
        ):
            at = (at + 1) & ((1 << bits) - 1)
        if table[at] < 0:
            table[at] = groups
            number[groups], one[groups] = mixed, i
            groups += 1
        count[table[at]] += 1
    return count[:groups], one[:groups], number[:groups]


@inner_kernel
def _same(nodes: Column, begin: Column, end: Column, one: int, other: int) -> bool:
    if end[one] - begin[one] != end[other] - begin[other]:
        return False
    for k in range(end[one] - begin[one]):
        if nodes[begin[one] + k] != nodes[begin[other] + k]:
            return False
    return True


def spelled(
    found: Paths, asked: Asked, chosen: NDArray[np.int64], deep: int | None = None
) -> list[NDArray[np.int32]]:
    """The nodes of the paths chosen, in the order in which they were walked."""
    begin, end = _up_to(found.begin[chosen], found.end[chosen], asked, deep)
    pairs = zip(begin.tolist(), end.tolist(), strict=True)
    return [found.nodes[first:last] for first, last in pairs]
