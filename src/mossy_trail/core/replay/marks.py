"""What is worth a flag about a step, by its own part or by the whole log."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.kernel import inner_kernel, kernel
from mossy_trail.core.model.app_map import ROLE
from mossy_trail.core.model.log import NONE, Column
from mossy_trail.core.model.properties import Property
from mossy_trail.core.model.steps import (
    EXIT,
    MARK,
    MOVE,
    TAB,
    Entries,
    JourneyColumns,
    StepColumns,
    Steps,
)

DEAD_END_VISITS = 20
"""From a screen that fewer have seen, it may be chance that none went on."""
STUCK = 3
"""So many repeats, refused moves and backs without effect make a stuck step."""
_REDIRECT, _START = MOVE["redirect"], MOVE["start"]
_NOT_FOUND_ROLE, _SPLASH = ROLE["not_found"], ROLE["splash"]
_ONBOARDING, _SIGN_IN = ROLE["onboarding"], ROLE["sign_in"]
_UNKNOWN, _NOT_FOUND, _STUCK = MARK["unknown_screen"], MARK["not_found"], MARK["stuck"]
_PING_PONG, _GATE_LOOP, _BOUNCE = MARK["ping_pong"], MARK["gate_loop"], MARK["bounce"]
_DEAD_END = np.uint16(MARK["dead_end"])
_BACK_TO_GATE, _PLACEHOLDER = MARK["back_to_gate"], MARK["placeholder"]


def mark(steps: Steps, bounce: int) -> None:
    """Set the marks of all steps and journeys; steps left sooner than `bounce` microseconds
    bounced. The replay itself has marked what only the stack of the moment tells."""
    places, uris = steps.places, len(steps.log.terms["uri"])
    placeholder = np.zeros(max(uris, len(places.placeholder)), bool)
    placeholder[: len(places.placeholder)] = places.placeholder
    known = _Known(places.role, places.unknown, placeholder)
    _mark(steps.steps, steps.entries, steps.journeys, known, bounce)


class _Known(NamedTuple):
    """What is known of screens, and of links."""

    role: Column
    unknown: Column
    placeholder: Column


@kernel
def _mark(
    steps: StepColumns, entries: Entries, journeys: JourneyColumns, known: _Known, bounce: int
) -> None:
    sent_from = np.full(len(known.role), NONE, np.int64)
    count, chain, found_in_all = len(steps.entry), 0, 0
    # The screens one, two and three steps back; a step's own journey alone is looked back on.
    back1 = back2 = back3 = NONE
    for i in range(count):
        j, screen = steps.journey[i], entries.screen[steps.entry[i]]
        found = steps.marks[i] | _by_itself(steps, entries, known, i, screen)
        if screen == back2 and back1 == back3 and back1 != screen and back1 != NONE:
            found |= _PING_PONG
        if steps.move[i] != _REDIRECT:
            chain = i
        else:
            if back1 == NONE:
                chain = i
            if sent_from[screen] == chain:
                found |= _GATE_LOOP
            if steps.wanted[i] != NONE:
                sent_from[steps.wanted[i]] = chain
        back1, back2, back3 = screen, back1, back2
        found_in_all |= found
        if i + 1 < count and steps.journey[i + 1] == j:
            dwell = steps.visible[i + 1] - steps.visible[i] - steps.away[i]
            if 0 <= dwell < bounce:
                found |= _BOUNCE
                found_in_all |= _BOUNCE
        else:
            journeys.marks[j] |= found_in_all
            back1 = back2 = back3 = NONE
            found_in_all = 0
        steps.marks[i] = found


@inner_kernel
def _by_itself(steps: StepColumns, entries: Entries, known: _Known, i: int, screen: int) -> int:
    """The marks that a step on this screen has whatever came before and after."""
    behind, role, found = steps.below[i], known.role[screen], 0
    if known.unknown[screen]:
        found |= _UNKNOWN
    if role == _NOT_FOUND_ROLE:
        found |= _NOT_FOUND
    if behind != NONE and entries.region[steps.entry[i]] == TAB:
        role = known.role[entries.screen[behind]]
        if role == _SPLASH or role == _ONBOARDING or role == _SIGN_IN:
            found |= _BACK_TO_GATE
    if steps.uri[i] != NONE and known.placeholder[steps.uri[i]]:
        found |= _PLACEHOLDER
    if steps.repeats[i] + steps.refused[i] >= STUCK:
        found |= _STUCK
    return found


def ways(steps: Steps, platform: Property) -> NDArray[np.int64]:
    """How often each screen was visited on each platform, and how often a step followed.

    Shape (2, screens, platforms + 1); the last platform is that of rows that name none. Parts of
    one log agree in their screens and platforms, so what they have can be summed.
    """
    shape = (len(steps.places.names), len(platform.values) + 1)
    place = steps.screen.astype("int64") * shape[1] + _of_steps(steps, platform)
    followed = np.ones(len(place), bool)
    followed[steps.last_steps()] = False
    followed[:-1] &= steps.steps.move[1:] != _START  # the app started anew: nobody got out
    size = shape[0] * shape[1]
    counts = [np.bincount(chosen, minlength=size) for chosen in (place, place[followed])]
    return np.stack(counts).reshape(2, *shape)


def dead_ends(ways: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Screens that are enough visited, and from which none has ever gone on, by the `ways` of the
    whole log; shape (screens, platforms + 1)."""
    visits, followed = ways
    return np.asarray((visits >= DEAD_END_VISITS) & (followed == 0))


def mark_dead_ends(
    steps: Steps, platform: Property, dead: NDArray[np.bool_], some: NDArray[np.int64]
) -> None:
    """Mark those of some journeys that ended on a screen from which nobody goes on, and no others
    of them; nor those that the log's end has cut off."""
    journeys = steps.journeys
    some = some[journeys.steps[some] > 0]
    last = journeys.first_step[some] + journeys.steps[some] - 1
    steps.steps.marks[last] &= ~_DEAD_END
    journeys.marks[some] &= ~_DEAD_END
    screen = steps.entries.screen[steps.steps.entry[last]]
    may = np.logical_or.reduce(dead, axis=1)[screen] & (journeys.exit[some] != EXIT["cut"])
    some, last, screen = some[may], last[may], screen[may]
    if not len(some):
        return
    found = dead[screen, _of_steps(steps, platform, last)]
    steps.steps.marks[last[found]] |= _DEAD_END
    journeys.marks[some[found]] |= _DEAD_END


def _of_steps(
    steps: Steps, platform: Property, some: NDArray[np.int32] | slice = slice(None)
) -> NDArray[np.int32]:
    """The platform of each step, or of some, as a code into the values; one more for none."""
    codes = platform.in_rows(steps.log, steps.steps.first_row[some])
    return np.where(codes == NONE, len(platform.values), codes)
