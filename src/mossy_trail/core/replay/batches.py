"""Walking through the rows of a part, some users at a time.

A batch's records fit into the memory nearest to the core, and are used again for the next one;
what they come to is written once, as columns.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.kernel import inner_kernel, kernel
from mossy_trail.core.model.app_map import Places
from mossy_trail.core.model.log import Column
from mossy_trail.core.model.steps import MOVE, Entries, StepColumns
from mossy_trail.core.replay.landing import empty
from mossy_trail.core.replay.reading import first_way
from mossy_trail.core.replay.run import (
    ENTRIES,
    SETTLE_TIME,
    STEP_DTYPE,
    STEPS,
    Run,
    Source,
    fill,
    new_run,
)
from mossy_trail.core.replay.walk import choose, flush, take_row

BATCH = 4096
"""Rows that a batch has at the least, if there are so many left."""
_START = MOVE["start"]


class Choices(NamedTuple):
    """How each row is to be read, if it is a view without a move; of no rows: by the first way."""

    choice: NDArray[np.uint8]
    unsure: NDArray[np.bool_]


FIRST_WAYS = Choices(np.empty(0, "u1"), np.empty(0, bool))


class Walked(NamedTuple):
    entries: Entries
    steps: StepColumns
    fate: NDArray[np.uint8]
    guessed: NDArray[np.bool_]
    """Per user whether no row tells the move of one of the steps."""


def walk_through(
    source: Source,
    places: Places,
    history: Mapping[str, str],
    choices: Choices,
    settle: int,
    doubled: int,
) -> Walked:
    """Take all rows of a part, one by one."""
    edges = _edges(source.user)
    longest = int(np.diff(edges).max(initial=0))
    run = new_run(longest, places, history, 3 * longest)
    room, state = _room_for(source, places), run.state.copy()
    made, written = _walk_through(source, edges, run, state, choices, *room, settle, doubled)
    return _written(room, made, written)


def nothing_walked(source: Source, places: Places) -> Walked:
    """What there is before the first row is taken."""
    return _written(_room_for(source, places), 0, 0)


def _room_for(source: Source, places: Places) -> Walked:
    # Pages that are never written to take no memory, so there is room for the most there can be.
    n = len(source.time)
    room = 3 * n + len(places.roots)
    entries: Any = (np.empty(room, "u1" if f == "region" else "i4") for f in Entries._fields)
    steps: Any = (np.empty(n, STEP_DTYPE[field]) for field in StepColumns._fields)
    guessed = np.zeros(int(source.user.max(initial=-1)) + 1, bool)
    return Walked(Entries(*entries), StepColumns(*steps), np.empty(n, "u1"), guessed)


def _written(room: Walked, entries: int, steps: int) -> Walked:
    return room._replace(
        entries=Entries(*_first(entries, room.entries)),
        steps=StepColumns(*_first(steps, room.steps)),
    )


def _first(count: int, columns: Iterable[Any]) -> list[Any]:
    return [column[:count] for column in columns]


@kernel
def _edges(user: Column) -> NDArray[np.int64]:
    """Where batches begin, and where the last one ends: no user is in two."""
    edges = [0]
    for i in range(1, len(user)):
        if user[i] != user[i - 1] and i - edges[-1] >= BATCH:
            edges.append(i)
    edges.append(len(user))
    return np.array(edges)


@kernel
def _walk_through(
    source: Source,
    edges: Column,
    run: Run,
    state: Column,
    choices: Choices,
    entries: Entries,
    steps: StepColumns,
    fate: Column,
    guessed: Column,
    settle: int,
    doubled: int,
) -> tuple[int, int]:
    roots = len(run.tabs)
    _take_entries(run, entries, 0, roots, 0)
    made, written = roots, 0
    for batch in range(len(edges) - 1):
        begin, end = edges[batch], edges[batch + 1]
        rows = run.rows[: end - begin]
        fill(rows, source, begin)
        if len(choices.choice):
            for i in range(end - begin):
                rows[i].choice = choices.choice[begin + i]
                rows[i].unsure = choices.unsure[begin + i]
        run.state[:] = state
        empty(run)
        own = Run(rows, run.screens, run.entries, run.steps, run.tabs, run.state)
        own.state[SETTLE_TIME] = settle
        for i in range(len(rows)):
            if take_row(own, i, settle, doubled):
                choice = rows[i].choice
                if choice == _START:
                    choice = first_way(own, rows[i].screen, rows[i].params)
                choose(own, i, choice)
        flush(own)
        shift = made - roots
        _take_entries(run, entries, roots, run.state[ENTRIES], shift)
        _take_steps(own, steps, written, begin, shift, guessed)
        for i in range(end - begin):
            fate[begin + i] = rows[i].fate
        made += run.state[ENTRIES] - roots
        written += run.state[STEPS]
    return made, written


@inner_kernel
def _shifted(entry: int, roots: int, shift: int) -> int:
    """The number of a batch's entry among all; the tabs' roots are the same in every batch."""
    return entry if entry < roots else entry + shift


@inner_kernel
def _take_entries(run: Run, entries: Entries, first: int, end: int, shift: int) -> None:
    roots = len(run.tabs)
    for i in range(first, end):
        entry, k = run.entries[i], i + shift
        entries.screen[k], entries.params[k] = entry.screen, entry.params
        entries.below[k] = _shifted(entry.below, roots, shift)
        entries.depth[k], entries.region[k], entries.tab[k] = entry.depth, entry.region, entry.tab
        entries.under[k] = _shifted(entry.under, roots, shift)


@inner_kernel
def _take_steps(
    run: Run, steps: StepColumns, written: int, begin: int, shift: int, guessed: Column
) -> None:
    roots = len(run.tabs)
    for i in range(run.state[STEPS]):
        step, k = run.steps[i], written + i
        steps.entry[k] = _shifted(step.entry, roots, shift)
        steps.below[k] = _shifted(step.below, roots, shift)
        steps.expected[k] = _shifted(step.expected, roots, shift)
        steps.move[k], steps.inferred[k], steps.unsure[k] = step.move, step.inferred, step.unsure
        steps.asked[k], steps.visible[k], steps.away[k] = step.asked, step.visible, step.away
        steps.loaded[k], steps.wanted[k] = step.loaded, step.wanted
        steps.tab_reported[k], steps.marks[k] = step.tab_reported, step.marks
        steps.uri[k], steps.source[k] = step.uri, step.source
        steps.repeats[k], steps.refused[k] = step.repeats, step.refused
        steps.first_row[k], steps.journey[k] = step.first_row + begin, step.journey
        if step.inferred and step.move != _START:
            guessed[run.rows[step.first_row].user] = True
