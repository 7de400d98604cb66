"""What is worth a flag about a step, by its own part or by the whole log."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.app_map import ROLE
from mossy_trail.core.kernel import kernel
from mossy_trail.core.log import NONE, Column
from mossy_trail.core.properties import Property
from mossy_trail.core.steps import EXIT, MARK, MOVE, TAB, Steps

DEAD_END_VISITS = 20
"""From a screen that fewer have seen, it may be chance that none went on."""
STUCK = 3
"""So many repeats, refused moves and backs without effect make a stuck step."""
_REDIRECT = MOVE["redirect"]


def mark(steps: Steps, bounce: int) -> None:
    """Set the marks of all steps and journeys; steps left sooner than `bounce` microseconds
    bounced. The replay itself has marked what only the stack of the moment tells."""
    columns, places, screen = steps.steps, steps.places, steps.screen
    dwell, behind = steps.dwell, columns.below
    gates = [ROLE[word] for word in ("splash", "onboarding", "sign_in")]
    inside = steps.entries.region[columns.entry] == TAB
    gate_below = np.isin(places.role[steps.entries.screen[behind]], gates) & (behind != NONE)
    for word, found in (
        ("unknown_screen", places.unknown[screen]),
        ("not_found", places.role[screen] == ROLE["not_found"]),
        ("ping_pong", _ping_pong(screen, columns.journey)),
        ("gate_loop", _gate_loop(screen, columns.wanted, columns.move, columns.journey)),
        ("placeholder", _placeholder(columns.uri, places.placeholder)),
        ("back_to_gate", inside & gate_below),
        ("stuck", columns.repeats + columns.refused >= STUCK),
        ("bounce", (dwell >= 0) & (dwell < bounce)),
    ):
        columns.marks[found] |= MARK[word]
    journeys = steps.journeys
    walked = journeys.steps > 0
    if walked.any():
        first = journeys.first_step[walked]
        journeys.marks[walked] |= np.bitwise_or.reduceat(columns.marks, first)


def ways(steps: Steps, platform: Property) -> NDArray[np.int64]:
    """How often each screen was visited on each platform, and how often a step followed.

    Shape (2, screens, platforms + 1); the last platform is that of rows that name none. Parts of
    one log agree in their screens and platforms, so what they have can be summed.
    """
    shape = (len(steps.places.names), len(platform.values) + 1)
    place = steps.screen.astype("int64") * shape[1] + _of_steps(steps, platform)
    followed = np.ones(len(place), bool)
    followed[steps.last_steps()] = False
    size = shape[0] * shape[1]
    counts = [np.bincount(chosen, minlength=size) for chosen in (place, place[followed])]
    return np.stack(counts).reshape(2, *shape)


def mark_dead_ends(steps: Steps, platform: Property, seen: NDArray[np.int64]) -> None:
    """Mark ends on screens from which, by the `ways` of the whole log, none has ever gone on.

    Journeys that the log's end has cut off do not count, nor do screens that few have seen.
    """
    visits, followed = seen
    dead = (visits >= DEAD_END_VISITS) & (followed == 0)
    last = steps.last_steps()
    ended = steps.journeys.exit[steps.steps.journey[last]] != EXIT["cut"]
    found = last[ended & dead[steps.screen[last], _of_steps(steps, platform)[last]]]
    steps.steps.marks[found] |= MARK["dead_end"]
    steps.journeys.marks[steps.steps.journey[found]] |= MARK["dead_end"]


def _of_steps(steps: Steps, platform: Property) -> NDArray[np.int32]:
    """Each step's platform, as a code into the values; one more stands for none."""
    codes = platform.in_rows(steps.log)[steps.steps.first_row]
    return np.where(codes == NONE, len(platform.values), codes)


def _ping_pong(screen: Column, journey: Column) -> NDArray[np.bool_]:
    """Steps that complete A B A B within a journey."""
    found = np.zeros(len(screen), bool)
    found[3:] = (
        (screen[3:] == screen[1:-2])
        & (screen[2:-1] == screen[:-3])
        & (screen[3:] != screen[2:-1])
        & (journey[3:] == journey[:-3])
    )
    return found


@kernel
def _gate_loop(screen: Column, wanted: Column, move: Column, journey: Column) -> NDArray[np.bool_]:
    """Redirects onto a screen from which one before sent away, with only redirects between."""
    found = np.zeros(len(screen), np.bool_)
    sent_from = np.full(screen.max() + 1 if len(screen) else 0, -1, np.int64)
    chain = 0
    for i in range(len(screen)):
        if i > 0 and journey[i] != journey[i - 1]:
            chain += 1
        if move[i] != _REDIRECT:
            chain += 1
            continue
        found[i] = sent_from[screen[i]] == chain
        if 0 <= wanted[i] < len(sent_from):
            sent_from[wanted[i]] = chain
    return found


def _placeholder(uri: Column, placeholder: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Steps of links with a value that was never filled in."""
    return np.isin(uri, np.flatnonzero(placeholder))
