"""Where sessions begin, and which rows were sent again."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.kernel import kernel, read_only
from mossy_trail.core.model.log import EVENT, NONE, Column, Log

_MANY = 64
"""Rows of one moment that are held against each other one by one."""
_MIXER = np.uint64(0x9E3779B97F4A7C15)


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
    columns = [c for name, c in log.columns.items() if name not in ("file", "line")]
    like = _alike(*(read_only(log.columns[name]) for name in ("user", "time", "event", "screen")))
    told = np.column_stack([column[like] for column in columns]).astype("i8")
    mixed = told.view("u8") @ np.cumprod(np.full(len(columns), _MIXER))
    order = np.argsort(mixed, kind="stable")
    same = (told[order[1:]] == told[order[:-1]]).all(axis=1)
    again = np.zeros(len(log), bool)
    again[like[order[1:][same]]] = True
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
    """The rows of moments that have another of the same event and screen, ascending.

    Of moments with very many rows, all: which of them are alike is told by sorting them.
    """
    rows = [0 for _ in range(0)]
    begin = 0
    for i in range(1, len(time)):
        if time[i] != time[i - 1] or user[i] != user[i - 1]:
            begin = i
        elif i - begin >= _MANY:
            if i - begin == _MANY:
                rows.extend(range(begin, i))
            rows.append(i)
        else:
            for j in range(begin, i):
                if event[i] == event[j] and screen[i] == screen[j]:
                    rows.append(j)
                    rows.append(i)
                    break
    return np.unique(np.array(rows, np.int64))
