"""The health of a log: labels for rows that are not as they should be, and gaps in time."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.kernel import kernel, read_only
from mossy_trail.core.model.log import (
    DAY,
    EVENT,
    HOUR,
    NONE,
    SECOND,
    TURN_OF_CENTURY,
    Column,
    Log,
)
from mossy_trail.core.model.steps import FATE, MARK, Steps

CLOCK_SET_BACK = 10 * 60 * SECOND
"""A row that is late by less came late; by more, the clock was changed."""
TOO_MANY_SCREENS = 2000
_REDIRECT = EVENT["redirect"]
_SURELY_A_GAP = 16
"""Sessions that usually begin in a stretch. By chance alone, e^−16 of such have no rows."""

FINDINGS = (
    "doubled",
    "repeated",
    "resent",
    "out_of_order",
    "clock_back",
    "clock_ahead",
    "clock_unset",
    "no_session",
    "unknown_screen",
    "folded_name",
    "unknown_event",
    "lost_before",
    "landed_elsewhere",
    "inferred",
)

LOUD = (
    "no_steps",
    "midnight",
    "one_moment",
    "one_row_each",
    "screen_per_row",
    "words_unread",
    "outcomes_untold",
)
"""What makes figures wrong, or missing, all over a log: said first."""


def label(steps: Steps, finding: str, read_at: int) -> NDArray[np.bool_]:
    """The rows of a part that this finding is about, one of `FINDINGS` or `LOUD`; shape (rows,).

    `read_at` is when the rows came in, in microseconds since 1970.
    """
    columns = steps.log.columns
    time = columns["time"]
    if finding in FATE:
        return np.asarray(steps.fate == FATE[finding])
    if finding in ("out_of_order", "clock_back"):
        late, changed = _late(steps, read_at)
        return changed if finding == "clock_back" else late
    if finding == "clock_ahead":
        return np.asarray(time > read_at + DAY)
    if finding == "clock_unset":
        return np.asarray(time < TURN_OF_CENTURY)
    if finding == "no_session":
        return np.asarray(columns["session"] == NONE)
    if finding == "unknown_screen":
        places = steps.places
        return _named(steps, places.unknown[places.of_name] & ~places.unknown.all())
    if finding == "folded_name":
        return _named(steps, steps.places.folded_name)
    if finding == "unknown_event":
        return np.asarray((columns["event"] == EVENT["custom"]) & (steps.fate != FATE["resent"]))
    if finding in _OF_STEPS:
        rows = np.zeros(len(time), bool)
        rows[steps.made_by[_OF_STEPS[finding](steps)]] = True
        return rows
    if finding in LOUD:
        return rows_about(steps, finding)
    raise KeyError(finding)


def _named(steps: Steps, names: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Rows of screens with some of the names; shape (rows,)."""
    if not names.any():
        return np.zeros(len(steps.log), bool)
    return np.append(names, False)[steps.log.columns["screen"]]


def counts(steps: Steps, read_at: int) -> dict[str, int]:
    """How many rows of a part each of `FINDINGS` is about."""
    late = dict(zip(("out_of_order", "clock_back"), _late(steps, read_at), strict=True))

    def about(finding: str) -> NDArray[np.bool_]:
        if finding in _OF_STEPS:  # each of which one row has made
            return _OF_STEPS[finding](steps)
        return late[finding] if finding in late else label(steps, finding, read_at)

    return {finding: int(np.count_nonzero(about(finding))) for finding in FINDINGS}


def _late(steps: Steps, read_at: int) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
    """Rows that came late, and those before which the clock was set back; shape (rows,)."""
    late = lateness(steps.log, read_at)
    late[steps.fate == FATE["resent"]] = 0
    changed = late >= CLOCK_SET_BACK
    return (late > 0) ^ changed, changed


def per_hour(times: NDArray[np.int64], read_at: int, first: int, hours: int) -> NDArray[np.int64]:
    """How many of the times are in each hour from `first` on, in hours since 1970, by a clock that
    can be right; shape (hours,)."""
    return _per_hour(read_only(times), TURN_OF_CENTURY, read_at + DAY, first, hours)


@kernel
def _per_hour(times: Column, least: int, most: int, first: int, hours: int) -> NDArray[np.int64]:
    counts = np.zeros(hours, np.int64)
    begin, place = np.int64(0), np.int64(-1)  # of the hour of the time before: most are in one
    for time in times:
        if not least <= time <= most:
            continue
        if not begin <= time < begin + HOUR:
            begin = time // HOUR * HOUR
            place = begin // HOUR - first
        if place < hours:
            counts[place] += 1
    return counts


def span(times: NDArray[np.int64], read_at: int) -> tuple[int, int] | None:
    """The first and the last hour of times by a clock that can be right, in hours since 1970."""
    first, last = _span(read_only(times), TURN_OF_CENTURY, read_at + DAY)
    return None if last < first else (first // HOUR, last // HOUR)


@kernel
def _span(times: Column, least: int, most: int) -> tuple[int, int]:
    first, last = most + 1, least - 1
    for time in times:
        if least <= time <= most:
            first, last = min(first, time), max(last, time)
    return first, last


def lateness(log: Log, read_at: int) -> NDArray[np.int64]:
    """By how much each row is older than the newest row of its user above it in its file.

    In microseconds; 0 for rows in order, and for those whose clock cannot be right. Shape (rows,).
    Rows are in the order of users and time; n rows of a user take n log n time at the most.
    """
    columns = log.columns
    names = ("user", "file", "line", "time")
    user, file, line, time = (read_only(columns[name]) for name in names)
    files = int(file.max(initial=NONE)) + 1
    return _lateness(user, file, line, time, TURN_OF_CENTURY, read_at + DAY, files)


@kernel
def _lateness(
    user: Column, file: Column, line: Column, time: Column, early: int, ahead: int, files: int
) -> NDArray[np.int64]:
    late = np.zeros(len(user), np.int64)
    own, least = np.empty(len(user), np.int64), np.empty(len(user), np.int64)
    # Of one user at a time: the files there are, how many rows each has, and its last line.
    there, count = np.empty(files, np.int64), np.zeros(files, np.int64)
    last, free = np.empty(files, np.int64), np.empty(files, np.int64)
    end = 0
    while end < len(user):
        begin, many, place, in_order = end, 0, 0, True
        while end < len(user) and user[end] == user[begin]:
            if early <= time[end] <= ahead:
                number = file[end]
                if count[number] == 0:
                    there[many] = number
                    many += 1
                else:
                    in_order = in_order and line[end] > last[number]
                last[number] = line[end]
                count[number] += 1
            end += 1
        if in_order:
            count[there[:many]] = 0
            continue
        for number in there[:many]:
            free[number] = place
            place += count[number]
        for i in range(begin, end):
            if early <= time[i] <= ahead:
                own[free[file[i]]] = i
                free[file[i]] += 1
        for number in there[:many]:
            first = free[number] - count[number]
            _late_in_file(own[first : free[number]], line, time, least, late)
            count[number] = 0
    return late


@kernel
def _late_in_file(own: Column, line: Column, time: Column, least: Column, late: Column) -> None:
    """Of a user's rows in one file, by time: the newest above a row is the last one further down
    the list whose line is less; `least` is the least line from a place in the list on."""
    n = len(own)
    for k in range(n - 1, -1, -1):
        row = own[k]
        least[k] = line[row] if k == n - 1 else min(line[row], least[k + 1])
        if k < n - 1 and least[k + 1] < line[row]:
            low, high = k + 1, n - 1
            while low < high:
                middle = (low + high + 1) // 2
                if least[middle] < line[row]:
                    low = middle
                else:
                    high = middle - 1
            late[row] = time[own[low]] - time[row]


def _begun_elsewhere(steps: Steps) -> NDArray[np.bool_]:
    """Steps whose row says that it came from another screen than the one before; (steps,).

    Between the two, rows were lost. A redirect's row names the screen that was wanted instead.
    """
    columns = steps.log.columns
    told = (columns["origin"], columns["event"], steps.made_by)
    rebuilt = (steps.places.of_name, steps.screen, steps.steps.journey)
    return _from_elsewhere(*map(read_only, told), *map(read_only, rebuilt))


@kernel
def _from_elsewhere(
    origin: Column, event: Column, made_by: Column, of_name: Column, screen: Column, journey: Column
) -> NDArray[np.bool_]:
    found = np.zeros(len(screen), np.bool_)
    for i in range(1, len(screen)):
        row = made_by[i]
        if journey[i] == journey[i - 1] and origin[row] != NONE and event[row] != _REDIRECT:
            found[i] = of_name[origin[row]] != screen[i - 1]
    return found


def _landed_elsewhere(steps: Steps) -> NDArray[np.bool_]:
    return np.asarray((steps.steps.marks & MARK["landed_elsewhere"]) != 0)


def _inferred(steps: Steps) -> NDArray[np.bool_]:
    return np.asarray(steps.steps.inferred)


_OF_STEPS = {
    "lost_before": _begun_elsewhere,
    "landed_elsewhere": _landed_elsewhere,
    "inferred": _inferred,
}
"""Findings about the rows that made steps; each tells which of these; shape (steps,)."""


@dataclass(frozen=True)
class Gap:
    """A stretch without rows, in microseconds since 1970, and the sessions that usually begin."""

    start: int
    end: int
    expected: float


def gaps(rows: NDArray[np.int64], begun: NDArray[np.int64], start: int) -> list[Gap]:
    """Stretches of whole hours without rows, in which there usually are some.

    `rows` counts the rows of each hour from `start` on, `begun` the sessions that began in it.
    What is usual at an hour of the day is the mean of that hour on all days. People begin their
    sessions independently of each other, so that with n to be expected an empty stretch is chance
    with probability e^−n (Poisson); of rows that would not hold, as a session has many.
    """
    hour_of_day = np.arange(len(rows)) % 24
    usual = np.bincount(hour_of_day, begun, 24) / np.maximum(
        np.bincount(hour_of_day, minlength=24), 1
    )
    edges = np.flatnonzero(np.diff(np.concatenate(([0], (rows == 0).view("i1"), [0]))))
    found = []
    for first, end in edges.reshape(-1, 2).tolist():
        expected = float(usual[hour_of_day[first:end]].sum())
        if expected >= _SURELY_A_GAP:
            found.append(Gap(start + first * HOUR, start + end * HOUR, expected))
    return found


@dataclass(frozen=True)
class NamePattern:
    """Names that differ only in ids: a template for them, how many there are, and one of them."""

    pattern: str
    names: int
    example: str


_ID = re.compile(r"[0-9a-f]{8}-[0-9a-f-]{27}|[0-9A-Fa-f]{12,}|\d+")


def name_patterns(names: Sequence[str]) -> list[NamePattern]:
    """Templates that stand for many names each, the widest first."""
    found: dict[str, list[str]] = {}
    for name in names:
        if _ID.search(name):
            found.setdefault(_ID.sub("{id}", name), []).append(name)
    wide = [
        NamePattern(pattern, len(own), own[0]) for pattern, own in found.items() if len(own) > 2
    ]
    return sorted(wide, key=lambda one: (-one.names, one.pattern))


_MANY = 20
"""Fewer rows than this tell nothing by what they have in common."""


class Tally(NamedTuple):
    """What the loud findings are told by; sums over parts."""

    steps: int
    moments: int
    """Different times, if they are not clearly too many to matter."""
    users: int
    told: int
    """Rows of signing in or up that say how it came out."""
    about: dict[str, int]
    """Per loud finding the rows that it would be about."""


def tally(steps: Steps) -> Tally:
    """What one part tells for the loud findings."""
    columns = steps.log.columns
    told = _of_account(steps) & (columns["outcome"] != NONE)
    return Tally(
        len(steps.steps.entry),
        _moments(columns["time"], len(steps.log.terms["user"]) // 20 + 1),
        len(steps.log.runs.user),
        int(np.count_nonzero(told)),
        {finding: int(np.count_nonzero(rows_about(steps, finding))) for finding in LOUD},
    )


def _moments(time: NDArray[np.int64], most: int) -> int:
    """How many different times there are; no further than it takes to tell that they are more."""
    return int(_different(read_only(time), most))


@kernel
def _different(time: Column, most: int) -> int:
    """By a table of hashes (multiplied as D. Knuth, The Art of Computer Programming 3, 1973)."""
    size = 2
    while size < 4 * (most + 2):
        size *= 2
    table, taken, found = np.zeros(size, np.int64), np.zeros(size, np.bool_), 0
    for moment in time:
        place = ((moment * 2_654_435_761) >> 16) & (size - 1)
        while taken[place] and table[place] != moment:
            place = (place + 1) & (size - 1)
        if not taken[place]:
            table[place], taken[place] = moment, True
            found += 1
            if found > most:
                break
    return found


def rows_about(steps: Steps, finding: str) -> NDArray[np.bool_]:
    """The rows of a part that a loud finding would be about, if it holds; shape (rows,)."""
    columns = steps.log.columns
    if finding == "midnight":
        return _at_midnight(read_only(columns["time"]))
    if finding == "one_row_each":
        begins = steps.log.runs.edges
        alone = np.zeros(len(steps.log), bool)
        alone[begins[:-1][np.diff(begins) == 1]] = True
        return alone
    if finding == "screen_per_row":
        return np.asarray(columns["event"] == EVENT["screen_view"])
    if finding == "words_unread":
        return np.asarray(columns["word"] != NONE)
    if finding == "outcomes_untold":
        return np.asarray(_of_account(steps) & (columns["outcome"] == NONE))
    return np.ones(len(steps.log), bool)


@kernel
def _at_midnight(time: Column) -> NDArray[np.bool_]:
    return time % DAY == 0


def _of_account(steps: Steps) -> NDArray[np.bool_]:
    event = steps.log.columns["event"]
    return np.asarray((event == EVENT["sign_in"]) | (event == EVENT["sign_up"]))


def loud(found: Sequence[Tally], screens: int) -> dict[str, int]:
    """The loud findings that hold of all parts, with the rows that each is about.

    `screens` are names that occur.
    """
    steps, moments, users, told = (
        sum(getattr(one, name) for one in found) for name in Tally._fields[:4]
    )
    about = {finding: sum(one.about[finding] for one in found) for finding in LOUD}
    rows = about["no_steps"]
    if rows < _MANY:
        return {}
    holds = {
        "no_steps": not steps,
        "midnight": about["midnight"] > 0.9 * rows,
        "one_moment": moments <= max(1, users // 20),
        "one_row_each": about["one_row_each"] > 0.9 * users,
        "screen_per_row": screens > max(_MANY, 0.5 * about["screen_per_row"]),
        "words_unread": about["words_unread"] > 0.2 * rows,
        "outcomes_untold": not told,
    }
    return {finding: about[finding] for finding in LOUD if holds[finding] and about[finding]}
