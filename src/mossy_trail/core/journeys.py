"""Journeys: the sessions of a log, with their steps."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.log import EVENT, Log
from mossy_trail.core.steps import EXIT, Entries, JourneyColumns, StepColumns, Steps


def journeys_of(
    log: Log, journey_of_row: NDArray[np.int32], steps: StepColumns, entries: Entries
) -> JourneyColumns:
    """Each session in its order; `journey_of_row` numbers each row's, from 0."""
    count = int(journey_of_row[-1]) + 1 if len(journey_of_row) else 0
    edges = np.searchsorted(journey_of_row, np.arange(count + 1)).astype("int32")
    step_edges = np.searchsorted(steps.journey, np.arange(count + 1)).astype("int32")
    first, last = edges[:-1], edges[1:] - 1
    columns = log.columns
    event = columns["event"]
    exits = np.full(count, EXIT["silent"], "uint8")
    for word, kind in (
        ("app_exit", "closed"),
        ("app_background", "backgrounded"),
        ("sign_out", "signed_out"),
    ):
        exits[event[last] == EVENT[word]] = EXIT[kind]
    session = columns["session"].astype("int32")
    cold = np.zeros(count, bool)
    cold[journey_of_row[event == EVENT["app_start"]]] = True
    walked = step_edges[:-1][np.diff(step_edges) > 0]
    deepest = np.zeros(count, "int32")
    if len(walked):
        deepest[steps.journey[walked]] = np.maximum.reduceat(entries.depth[steps.entry], walked)
    return JourneyColumns(
        step_edges[:-1],
        np.diff(step_edges),
        first,
        np.diff(edges),
        columns["user"][first].astype("int32"),
        np.maximum.reduceat(session, first) if count else session,
        columns["time"][first].astype("int64"),
        columns["time"][last].astype("int64"),
        np.where(cold, 0, 1).astype("uint8"),
        exits,
        np.zeros(count, "uint16"),
        deepest,
    )


def mark_cut(steps: Steps, log_end: int, idle: int) -> None:
    """Mark silent journeys whose end lies within the idle limit of the log's end as cut."""
    journeys = steps.journeys
    silent = journeys.exit == EXIT["silent"]
    journeys.exit[silent & (journeys.end > log_end - idle)] = EXIT["cut"]
