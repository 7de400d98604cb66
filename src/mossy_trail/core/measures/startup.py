"""Starts of the app: how long they take, where they land, and who left before they did.

A start is an `app_start` (cold), the first row of a session that has none (warm), or an
`app_recreate`, after which the screen that was visible shows again. Others land on the first screen
after them that is no splash, before the next start. The time a start takes is from its row until
the screen is visible. One that lands nowhere was left on the splash, unless the log's end cut it
off.
"""

from __future__ import annotations

from dataclasses import dataclass, fields

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.kernel import kernel, read_only
from mossy_trail.core.model.app_map import ROLE
from mossy_trail.core.model.log import EVENT, NONE, Column
from mossy_trail.core.model.steps import EXIT, FATE, MOVE, TAB, JourneyColumns, Steps

KINDS = ("cold", "warm", "recreated")
LANDINGS = ("left", "onboarding", "sign_in", "inside", "link_target", "not_found", "elsewhere")
"""Where a start came to. `inside` is a tab; `link_target` the screen that its link names."""
_COLD, _WARM, _RECREATED = range(3)
_LEFT, _ONBOARDING, _SIGN_IN, _INSIDE, _TARGET, _NOT_FOUND, _ELSEWHERE = range(7)
_APP_START, _RECREATE = EVENT["app_start"], EVENT["app_recreate"]
_MERGED = FATE["merged"]
_OPEN_LINK, _VIEW = EVENT["open_link"], EVENT["screen_view"]
_SPLASH = ROLE["splash"]


@dataclass(frozen=True, eq=False)
class Labels:
    """The starts of one part; arrays of shape (starts,).

    `took` is the time until it landed, or until it was left, in microseconds; `ended` tells that
    the screen it landed on was the journey's last.
    """

    journey: NDArray[np.int32]
    kind: NDArray[np.int8]
    by_link: NDArray[np.bool_]
    landing: NDArray[np.int8]
    took: NDArray[np.int64]
    ended: NDArray[np.bool_]

    def take(self, chosen: NDArray[np.bool_]) -> Labels:
        return Labels(*(getattr(self, one.name)[chosen] for one in fields(self)))


def label(steps: Steps, inside: NDArray[np.bool_]) -> Labels:
    """The starts of the journeys `inside`, in order; linear in rows and steps."""
    columns, journeys, places = steps.log.columns, steps.journeys, steps.places
    event = columns["event"]
    most = len(inside) + int(((event == _APP_START) | (event == _RECREATE)).sum())
    journey, kind = np.empty(most, "i4"), np.empty(most, "i1")
    landing, by_link, took = np.empty(most, "i4"), np.zeros(most, bool), np.empty(most, "i8")
    resumed = np.zeros(most, bool)
    count = _find(
        read_only(event),
        read_only(columns["time"]),
        journeys,
        journeys.exit != EXIT["cut"],
        inside,
        steps.steps.visible,
        steps.role == _SPLASH,
        read_only(steps.fate),
        (journey, kind, landing, by_link, took, resumed),
    )
    step, journey = landing[:count], journey[:count]
    landed = step >= 0
    own = np.where(landed, step, 0)
    kinds = np.full(count, _LEFT, np.int8)
    ended = np.zeros(count, bool)
    if landed.any():
        kinds = np.where(landed, _landings(steps, places.role, own), _LEFT).astype("i1")
        kinds[resumed[:count] & (kinds == _TARGET)] = _INSIDE
        last = journeys.first_step[journey] + journeys.steps[journey] - 1
        ended = landed & (own == last)
    return Labels(journey, kind[:count], by_link[:count], kinds, took[:count], ended)


def _landings(steps: Steps, roles: NDArray[np.uint8], at: NDArray[np.int32]) -> NDArray[np.int8]:
    """What it is to land on each of these steps."""
    of_role = np.full(max(ROLE.values()) + 1, _ELSEWHERE, np.int8)
    of_role[ROLE["onboarding"]] = _ONBOARDING
    of_role[[ROLE[word] for word in ("sign_in", "sign_up", "recovery")]] = _SIGN_IN
    screen, uri = steps.screen[at], steps.steps.uri[at]
    found = of_role[roles[screen]]
    found[steps.entries.region[steps.steps.entry[at]] == TAB] = _INSIDE
    linked = (steps.steps.move[at] == MOVE["link"]) & (uri != NONE)
    target = steps.places.link_target[uri[linked]]
    found[np.flatnonzero(linked)[screen[linked] == target]] = _TARGET
    found[roles[screen] == ROLE["not_found"]] = _NOT_FOUND
    return found


@kernel
def _find(
    event: Column,
    time: Column,
    journeys: JourneyColumns,
    whole: Column,
    inside: Column,
    visible: Column,
    splash: Column,
    fate: Column,
    found: tuple[Column, Column, Column, Column, Column, Column],
) -> int:
    """Write each start: its journey, kind, the step it landed on, whether a link was opened, how
    long it took, and whether it went on from a step that stood before. Returns how many there are.
    """
    journey, kinds, landing, by_link, took, resumed = found
    made = 0
    for j in range(len(inside)):
        if not inside[j]:
            continue
        begin, end = journeys.first_row[j], journeys.first_row[j] + journeys.rows[j]
        step = first = journeys.first_step[j]
        last = first + journeys.steps[j]
        at = again = -1
        began, since = 0, first
        for row in range(begin, end):
            waits = again >= 0 or (at >= 0 and landing[at] == NONE)
            if not waits and row > begin and event[row] != _APP_START and event[row] != _RECREATE:
                continue
            while step < last and row > begin and visible[step] <= time[row - 1]:
                step += 1  # shown while nothing waited
            kind = -1
            if event[row] == _APP_START or (row == begin and journeys.start_kind[j]):
                kind = _COLD if event[row] == _APP_START else _WARM
                at, again, began, since = made, -1, time[row], step
                landing[made], took[made] = NONE, 0
            elif event[row] == _RECREATE and step > first:
                kind = _RECREATED
                again = made
                landing[made], took[made] = step - 1, -time[row]
            elif event[row] == _VIEW and again >= 0:
                took[again] += time[row]
                again = -1
            if kind >= 0:
                journey[made], kinds[made] = j, kind
                made += 1
            if at >= 0 and event[row] == _OPEN_LINK and landing[at] == NONE:
                by_link[at] = True
            while step < last and visible[step] <= time[row]:
                if at >= 0 and landing[at] == NONE and not splash[step]:
                    landing[at], took[at] = step, visible[step] - began
                step += 1
            if at >= 0 and landing[at] == NONE:
                took[at] = time[row] - began
                shows = event[row] == _VIEW or event[row] == _APP_START
                if shows and fate[row] == _MERGED and step == since and step > 0:
                    landing[at], resumed[at] = step - 1, True
        if again >= 0:
            took[again] = 0  # nothing was shown again
        if at == made - 1 and landing[at] == NONE and not whole[j]:
            by_link[at] = False
            made -= 1  # the log's end cut it off
    return made
