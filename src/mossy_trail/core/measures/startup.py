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

from mossy_trail.core.app_map import ROLE
from mossy_trail.core.kernel import kernel, read_only
from mossy_trail.core.log import EVENT, NONE, Column
from mossy_trail.core.steps import EXIT, MOVE, TAB, Steps

KINDS = ("cold", "warm", "recreated")
LANDINGS = ("left", "onboarding", "sign_in", "inside", "link_target", "not_found", "elsewhere")
"""Where a start came to. `inside` is a tab; `link_target` the screen that its link names."""
_COLD, _WARM, _RECREATED = range(3)
_LEFT, _ONBOARDING, _SIGN_IN, _INSIDE, _TARGET, _NOT_FOUND, _ELSEWHERE = range(7)
_APP_START, _RECREATE = EVENT["app_start"], EVENT["app_recreate"]
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
    rows = len(columns["time"])
    starts = np.zeros(rows, np.int8)
    landing = np.full(rows, NONE, np.int32)
    by_link, until = np.zeros(rows, bool), np.zeros(rows, "i8")
    _find(
        read_only(columns["event"]),
        read_only(columns["time"]),
        journeys.first_row,
        journeys.rows,
        journeys.start_kind == 0,
        journeys.exit != EXIT["cut"],
        inside,
        steps.steps.journey,
        steps.steps.visible,
        steps.role == _SPLASH,
        (starts, landing, by_link, until),
    )
    at = np.flatnonzero(starts)
    step = landing[at]
    landed = step >= 0
    own = np.where(landed, step, 0)
    kinds = np.full(len(at), _LEFT, np.int8)
    if landed.any():
        kinds = np.where(landed, _landings(steps, places.role)[own], _LEFT).astype("i1")
    last = np.zeros(len(steps.screen), bool)
    last[steps.last_steps()] = True
    journey = np.repeat(np.arange(len(journeys.rows), dtype="i4"), journeys.rows)[at]
    ended = landed & last[own] if len(last) else landed
    took = until[at] - columns["time"][at]
    return Labels(journey, starts[at] - 1, by_link[at], kinds, took, ended)


def _landings(steps: Steps, roles: NDArray[np.uint8]) -> NDArray[np.int8]:
    """Per step, what it would be to land on it."""
    of_role = np.full(max(ROLE.values()) + 1, _ELSEWHERE, np.int8)
    of_role[ROLE["onboarding"]] = _ONBOARDING
    of_role[[ROLE[word] for word in ("sign_in", "sign_up", "recovery")]] = _SIGN_IN
    found = of_role[roles][steps.screen]
    found[steps.entries.region[steps.steps.entry] == TAB] = _INSIDE
    uri = steps.steps.uri
    linked = (steps.steps.move == MOVE["link"]) & (uri != NONE)
    target = steps.places.link_target[uri[linked]]
    found[np.flatnonzero(linked)[steps.screen[linked] == target]] = _TARGET
    found[roles[steps.screen] == ROLE["not_found"]] = _NOT_FOUND
    return found


@kernel
def _find(
    event: Column,
    time: Column,
    first_row: Column,
    rows: Column,
    is_cold: Column,
    whole: Column,
    inside: Column,
    step_journey: Column,
    visible: Column,
    splash: Column,
    found: tuple[Column, Column, Column, Column],
) -> None:
    """Write each start where its row is: one more than its kind, its landing's step, whether a
    link was opened, and when it landed or was left."""
    starts, landing, by_link, until = found
    step = 0
    for j in range(len(first_row)):
        if not inside[j]:
            continue
        begin, end = first_row[j], first_row[j] + rows[j]
        while step < len(step_journey) and step_journey[step] < j:
            step += 1
        at = again = -1
        for row in range(begin, end):
            if event[row] == _APP_START or (row == begin and not is_cold[j]):
                at, again = row, -1
                starts[row] = 1 + (_COLD if event[row] == _APP_START else _WARM)
            elif event[row] == _RECREATE and step > 0 and step_journey[step - 1] == j:
                again = row
                starts[row], landing[row], until[row] = 1 + _RECREATED, step - 1, time[row]
            elif event[row] == _VIEW and again >= 0:
                until[again], again = time[row], -1
            if at >= 0 and event[row] == _OPEN_LINK and landing[at] == NONE:
                by_link[at] = True
            while step < len(visible) and step_journey[step] == j and visible[step] <= time[row]:
                if at >= 0 and landing[at] == NONE and not splash[step]:
                    landing[at] = step
                    until[at] = visible[step]
                step += 1
            if at >= 0 and landing[at] == NONE:
                until[at] = time[row]
        if at >= 0 and landing[at] == NONE and not whole[j]:
            starts[at] = 0  # the log's end cut it off
