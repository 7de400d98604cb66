"""Where sessions begin, and which rows were sent again."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.kernel import kernel, read_only
from mossy_trail.core.model.log import EVENT, NONE, Column, Log

_SAME_MOMENT = 64
"""Rows of one moment that are looked back on for the same row."""


def cut_sessions(log: Log, idle: int) -> NDArray[np.int32]:
    """The number of each row's session, counted from 0 through the part; shape (rows,).

    A given id starts a session wherever it changes. Rows without one belong to the session that
    is under way unless the user was idle for longer than `idle`, in microseconds.
    """
    columns = log.columns
    user, session, time = (read_only(columns[name]) for name in ("user", "session", "time"))
    return _cut(user, session, time, idle)


@kernel
def _cut(user: Column, session: Column, time: Column, idle: int) -> NDArray[np.int32]:
    number = np.empty(len(user), np.int32)
    current, given = -1, NONE
    for i in range(len(user)):
        new = i == 0 or user[i] != user[i - 1]
        if not new:
            idled = time[i] - time[i - 1] > idle
            if session[i] == NONE:
                new = idled
            elif given == NONE:
                new = idled or session[i - 1] != NONE
            else:
                new = session[i] != given
        if new:
            current += 1
            given = NONE
        if session[i] != NONE:
            given = session[i]
        number[i] = current
    return number


def resent(log: Log) -> NDArray[np.bool_]:
    """Rows that say again, in every column, what another row of that moment said; (rows,).

    A batch that was sent twice, or a file brought in twice, has them: they are no second move.
    Of same rows the first is kept.
    """
    columns = {name: c for name, c in log.columns.items() if name not in ("file", "line")}
    like = _alike(*(read_only(columns[name]) for name in ("user", "time", "event", "screen")))
    again = np.zeros(len(log), bool)
    told = np.column_stack([column[like] for column in columns.values()])
    again[like] = _resent(columns["user"][like], columns["time"][like], told)
    return again


def without(log: Log, again: NDArray[np.bool_]) -> Log:
    """The log in which rows that came again tell nothing: no measure counts what they say."""
    if not again.any():
        return log
    said = {"event": EVENT["custom"], "word": NONE, "outcome": NONE}
    told = {name: np.where(again, value, log.columns[name]) for name, value in said.items()}
    typed = {name: column.astype(log.columns[name].dtype) for name, column in told.items()}
    return Log({**log.columns, **typed}, log.terms)


@kernel
def _alike(user: Column, time: Column, event: Column, screen: Column) -> NDArray[np.int64]:
    """The rows of moments that have another of the same event and screen, ascending."""
    rows = [0 for _ in range(0)]
    begin = 0
    for i in range(1, len(time)):
        if time[i] != time[i - 1] or user[i] != user[i - 1]:
            begin = i
            continue
        for j in range(max(begin, i - _SAME_MOMENT), i):
            if event[i] == event[j] and screen[i] == screen[j]:
                rows.append(j)
                rows.append(i)
    return np.unique(np.array(rows, np.int64))


@kernel
def _resent(user: Column, time: Column, told: Column) -> NDArray[np.bool_]:
    again = np.zeros(len(user), np.bool_)
    begin = 0
    for i in range(len(user)):
        if i == 0 or user[i] != user[i - 1] or time[i] != time[i - 1]:
            begin = i
        for j in range(max(begin, i - _SAME_MOMENT), i):
            same = not again[j]
            for k in range(told.shape[1]):
                same = same and told[i, k] == told[j, k]
            if same:
                again[i] = True
                break
    return again
