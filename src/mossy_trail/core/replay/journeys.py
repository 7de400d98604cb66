"""Journeys: the sessions of a log, with their steps."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.kernel import inner_kernel, kernel, read_only
from mossy_trail.core.model.log import EVENT, NONE, Column, Log
from mossy_trail.core.model.steps import EXIT, STARTS, Entries, JourneyColumns, StepColumns

_APP_START, _APP_EXIT = EVENT["app_start"], EVENT["app_exit"]
_BACKGROUND, _SIGN_OUT = EVENT["app_background"], EVENT["sign_out"]
_CLOSED, _BACKGROUNDED = EXIT["closed"], EXIT["backgrounded"]
_SIGNED_OUT, _SILENT = EXIT["signed_out"], EXIT["silent"]
_COLD, _WARM = STARTS.index("cold"), STARTS.index("warm")


def journeys_of(
    log: Log,
    journey_of_row: NDArray[np.int32],
    steps: StepColumns,
    entries: Entries,
    again: NDArray[np.bool_],
) -> JourneyColumns:
    """Each session in its order; `journey_of_row` numbers each row's, from 0.

    Rows that came `again` are no ends.
    """
    count = int(journey_of_row[-1]) + 1 if len(journey_of_row) else 0
    journeys = JourneyColumns(
        *(np.zeros(count, _DTYPES.get(name, "i4")) for name in JourneyColumns._fields)
    )
    columns = (read_only(log.columns[name]) for name in ("user", "session", "time", "event"))
    _gather_rows(journeys, journey_of_row, again, *columns)
    _gather_steps(journeys, steps.journey, steps.entry, entries.depth)
    return journeys


_DTYPES = {"start": "i8", "end": "i8", "start_kind": "u1", "exit": "u1", "marks": "u2"}


@kernel
def _gather_rows(
    journeys: JourneyColumns,
    journey: Column,
    again: Column,
    user: Column,
    session: Column,
    time: Column,
    event: Column,
) -> None:
    first, given, kind, last = 0, NONE, _WARM, 0
    for i in range(len(journey)):
        given = max(given, session[i])
        last = last if again[i] else event[i]
        if event[i] == _APP_START:
            kind = _COLD
        if i + 1 < len(journey) and journey[i + 1] == journey[i]:
            continue
        j = journey[i]
        journeys.first_row[j], journeys.rows[j] = first, i + 1 - first
        journeys.user[j], journeys.session[j] = user[i], given
        journeys.start[j], journeys.end[j] = time[first], time[i]
        journeys.start_kind[j], journeys.exit[j] = kind, _exit(last)
        first, given, kind = i + 1, NONE, _WARM


@inner_kernel
def _exit(event: int) -> int:
    """How a journey ended whose last row this is."""
    if event == _APP_EXIT:
        return _CLOSED
    if event == _BACKGROUND:
        return _BACKGROUNDED
    return _SIGNED_OUT if event == _SIGN_OUT else _SILENT


@kernel
def _gather_steps(journeys: JourneyColumns, journey: Column, entry: Column, depth: Column) -> None:
    step = 0
    for j in range(len(journeys.steps)):
        journeys.first_step[j] = step
        while step < len(journey) and journey[step] == j:
            journeys.deepest[j] = max(journeys.deepest[j], depth[entry[step]])
            step += 1
        journeys.steps[j] = step - journeys.first_step[j]


def exits_at(journeys: JourneyColumns, log_end: int, idle: int) -> NDArray[np.uint8]:
    """How each journey ended: silent ones within the idle limit of the log's end are cut."""
    cut, silent = np.uint8(EXIT["cut"]), np.uint8(EXIT["silent"])
    untold = (journeys.exit == silent) | (journeys.exit == cut)
    return np.where(untold, np.where(journeys.end > log_end - idle, cut, silent), journeys.exit)
