"""The columns of a log's rows, and the dictionaries that their codes point into."""

from __future__ import annotations

import zlib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise
from typing import Any, NamedTuple, TypeVar

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.ahead import two_at_once
from mossy_trail.core.kernel import brief_kernel, kernel, read_only

EVENTS = (
    "app_start",
    "app_background",
    "app_foreground",
    "app_recreate",
    "app_exit",
    "screen_view",
    "push",
    "pop",
    "pop_to",
    "replace",
    "reset",
    "switch_tab",
    "open_modal",
    "close_modal",
    "update",
    "forward",
    "redirect",
    "blocked",
    "open_link",
    "leave_prompt",
    "sign_in",
    "sign_up",
    "sign_out",
    "session_restored",
    "custom",
    "navigate",
    "traverse",
)
"""`navigate` goes to a screen and `traverse` back or forward to one, by whichever move the stacks
of the moment make of it. Codes stand in stored rows: new words come last."""
EVENT = {word: code for code, word in enumerate(EVENTS)}
OUTCOMES = ("attempt", "ok", "failed", "stayed", "left")
OUTCOME = {word: code for code, word in enumerate(OUTCOMES)}
VIAS = ("push", "replace", "initial", "link")
"""How a redirect landed; or that a row came about by a link."""

NONE = -1
"""The code of a value that a row does not have."""

SECOND = 1_000_000
HOUR, DAY = 3600 * SECOND, 86_400 * SECOND
TURN_OF_CENTURY = 946_684_800 * SECOND
"""No app logged before 2000: a clock that says so was never set."""

DTYPES = {
    "user": "int32",
    "account": "int32",
    "time": "int64",
    "session": "int32",
    "order": "int64",
    "event": "uint8",
    "word": "int32",
    "screen": "int32",
    "origin": "int32",
    "tab": "int32",
    "uri": "int32",
    "source": "int32",
    "outcome": "int8",
    "params": "int32",
    "count": "int32",
    "via": "int8",
    "props": "int32",
    "file": "int32",
    "line": "int32",
}
"""Every column of a log and its dtype. `time` is in microseconds since 1970 in UTC."""

DICTIONARY_OF = {
    "user": "user",
    "account": "account",
    "session": "session",
    "word": "word",
    "screen": "screen",
    "origin": "screen",
    "tab": "word",
    "uri": "uri",
    "source": "word",
    "params": "params",
    "props": "props",
    "file": "file",
}
"""Which dictionary the codes of a column point into; the other columns are plain numbers."""

DICTIONARIES = ("user", "account", "session", "word", "screen", "uri", "params", "props", "file")

Column = NDArray[Any]
Number = TypeVar("Number", bound=np.generic)
Stretches = NDArray[np.int64]
"""From where to where in a column, one after the other; shape (stretches, 2)."""


@dataclass(frozen=True, eq=False)
class Log:
    """Rows of one or more users as columns of equal length.

    `columns` maps each name of `DTYPES` to an array of shape (rows,); a missing value is −1. It
    is a dict, or copies each column when it is first asked for.
    `terms` maps each name of `DICTIONARIES` to the strings that the codes stand for; the strings
    of one dictionary are distinct.
    """

    columns: Mapping[str, Column]
    terms: dict[str, list[str]]

    def __len__(self) -> int:
        if isinstance(self.columns, Stretched):
            return self.columns.rows
        return len(self.columns["user"])

    @cached_property
    def runs(self) -> Runs:
        """Whose rows stand where, where those of one user stand together."""
        return Runs.of(self.columns["user"])

    def under(self, terms: dict[str, list[str]]) -> Log:
        """The same under dictionaries that go on from its own."""
        same = Log(self.columns, terms)
        if "runs" in vars(self):
            vars(same)["runs"] = self.runs
        return same

    def take(self, rows: NDArray[np.int64]) -> Log:
        """The log of these row positions, in this order, with the same dictionaries."""
        own = read_only(rows)
        return Log(
            {name: _taken(read_only(c), own) for name, c in self.columns.items()}, self.terms
        )

    def stretched(self, own: Stretches) -> Log:
        """The rows of some stretches, with the same dictionaries."""
        return Log(Stretched.of(self.columns, own), self.terms)

    def text(self, column: str, row: int) -> str | None:
        """The string that `column` holds in `row`, or None."""
        code = int(self.columns[column][row])
        return None if code < 0 else self.terms[DICTIONARY_OF[column]][code]


class Runs(NamedTuple):
    """Stretches of rows of one user each, one after the other."""

    user: NDArray[np.int32]
    """Shape (users,)."""
    edges: NDArray[np.int64]
    """Where each begins, and where the last one ends; shape (users + 1,)."""

    @classmethod
    def of(cls, user: NDArray[np.int32]) -> Runs:
        """Of the user of each row."""
        begins = np.flatnonzero(np.append(True, user[1:] != user[:-1])[: len(user)])
        return cls(user[begins], np.append(begins, len(user)))

    def among(self, users: NDArray[np.bool_]) -> tuple[Stretches, Runs]:
        """Where the rows of some users stand, and the runs that they are when they stand alone."""
        chosen = users[self.user]
        rows = np.append(0, np.cumsum(np.diff(self.edges)[chosen]))
        return self.edges[stretches(self.user, users)], Runs(self.user[chosen], rows)


@kernel
def _taken(column: Column, rows: NDArray[np.int64]) -> Column:
    found = np.empty(len(rows), column.dtype)
    for i in range(len(rows)):
        found[i] = column[rows[i]]
    return found


class Stretched(Mapping[str, Column]):
    """Some stretches of columns. Each is copied when it is first asked for: most questions need
    few of them."""

    def __init__(self, whole: Mapping[str, Column], own: Stretches) -> None:
        self._whole, self._own = whole, own
        self.rows = int((own[:, 1] - own[:, 0]).sum())
        self._copied: dict[str, Column] = {}

    @classmethod
    def of(cls, columns: Mapping[str, Column], own: Stretches) -> Stretched:
        if isinstance(columns, Stretched):
            return cls(columns._whole, within(columns._own, own))
        return cls(columns, own)

    def __getitem__(self, name: str) -> Column:
        if name not in self._copied:
            self._copied[name] = picked(self._whole[name], self._own)
        return self._copied[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._whole)

    def __len__(self) -> int:
        return len(self._whole)


def plausible(time: NDArray[np.int64], read_at: int) -> NDArray[np.bool_]:
    """Which times a clock that is right can have told in rows that came in at `read_at`."""
    return np.asarray((time >= TURN_OF_CENTURY) & (time <= read_at + DAY))


def empty_log() -> Log:
    return Log(
        {name: np.empty(0, dtype) for name, dtype in DTYPES.items()},
        {name: [] for name in DICTIONARIES},
    )


def merge(logs: Sequence[Log]) -> Log:
    """One log of all rows, its dictionaries united in order of first appearance."""
    if not logs:
        return empty_log()
    if len(logs) == 1:
        return logs[0]
    terms, codings = united([log.terms for log in logs])
    pieces = [recoded(log.columns, own) for log, own in zip(logs, codings, strict=True)]
    return Log({name: np.concatenate([p.pop(name) for p in pieces]) for name in DTYPES}, terms)


def recoded(columns: Mapping[str, Column], codings: Mapping[str, Column]) -> dict[str, Column]:
    """A log's columns in the codes of other dictionaries."""
    return {
        name: recode(column, codings[DICTIONARY_OF[name]]) if name in DICTIONARY_OF else column
        for name, column in columns.items()
    }


def united(
    each: Sequence[dict[str, list[str]]],
) -> tuple[dict[str, list[str]], list[dict[str, Column]]]:
    """United dictionaries, of the terms of several logs, and per log how its codes of each become
    theirs."""
    terms: dict[str, list[str]] = {}
    codings: list[dict[str, Column]] = [{} for _ in each]
    for name in DICTIONARIES:
        terms[name], own = _unite([of_log[name] for of_log in each])
        for coding, of_log in zip(codings, own, strict=True):
            coding[name] = of_log
    return terms, codings


def recode(codes: Column, coding: Column) -> Column:
    """`coding[codes]`, leaving −1 as it is."""
    if len(coding) == 0:
        return codes
    return _recoded(read_only(codes), read_only(coding))


@kernel
def _recoded(codes: Column, coding: Column) -> Column:
    found = np.empty(len(codes), coding.dtype)
    for i in range(len(codes)):
        found[i] = coding[codes[i]] if codes[i] >= 0 else NONE
    return found


def _unite(dictionaries: Sequence[list[str]]) -> tuple[list[str], list[Column]]:
    code_of: dict[str, int] = {}
    codings: list[Column] = []
    for strings in dictionaries:
        coding = [code_of.setdefault(string, len(code_of)) for string in strings]
        codings.append(np.array(coding, "int32"))
    return list(code_of), codings


ROWS_PER_PART = 250_000


def parts_needed(rows: int) -> int:
    """How many parts a log is split into: enough to share between cores, few enough to merge."""
    return min(max(2, rows // ROWS_PER_PART), 256)


def split(log: Log, parts: int) -> list[Log]:
    """So many parts of the log by a hash of the user; some may be empty.

    Each is sorted by user, time, order, file and line. The hash is of the user's name alone, so a
    user's rows meet in one part whatever order the files came in.
    """
    return list(each_part(log, parts))


def each_part(log: Log, parts: int) -> Iterator[Log]:
    """What `split` returns, one after the other, so that not all need be in memory at once."""
    bucket_of_user = bucket_of(log.terms["user"], parts)
    columns = log.columns
    rank = np.argsort(bucket_of_user, kind="stable").argsort(kind="stable").astype("int32")
    order = sorted_rows(
        recode(columns["user"], rank),
        len(rank),
        columns["time"],
        columns["order"],
        columns["file"],
        columns["line"],
    )
    rows = np.bincount(columns["user"], minlength=len(rank))
    edges = np.append(0, np.cumsum(np.bincount(bucket_of_user, rows, parts).astype("int64")))
    yield from two_at_once(lambda edge: log.take(order[edge[0] : edge[1]]), pairwise(edges))


def ordered(log: Log) -> Log:
    """As one part: its rows sorted by user, time, order, file and line."""
    names = ("time", "order", "file", "line")
    columns = (log.columns[name] for name in names)
    return log.take(sorted_rows(log.columns["user"], len(log.terms["user"]), *columns))


def joined(logs: Sequence[Log]) -> Log:
    """The rows of logs that share their dictionaries, one after the other."""
    columns = {name: np.concatenate([log.columns[name] for log in logs]) for name in DTYPES}
    return Log(columns, logs[0].terms)


def of_users(log: Log, users: NDArray[np.bool_]) -> Log:
    """The rows of some users, by their codes, of a log in which those of one stand together."""
    own, runs = log.runs.among(users)
    some = log.stretched(own)
    vars(some)["runs"] = runs
    return some


def users_with(log: Log, name: str, codes: Column) -> Column:
    """Who has rows with one of these codes in a column."""
    return np.unique(log.columns["user"][np.isin(log.columns[name], codes)])


def stretches(user: Column, users: NDArray[np.bool_]) -> Stretches:
    """From where to where a column of users has some of them. Where these are few, what is told of
    them is copied as it stands, which is much faster than one by one."""
    return _edges(read_only(user), read_only(users)).reshape(-1, 2)


@brief_kernel
def _edges(user: Column, users: NDArray[np.bool_]) -> NDArray[np.int64]:
    edges, inside = [0 for _ in range(0)], False
    for i in range(len(user)):
        if users[user[i]] != inside:
            inside = not inside
            edges.append(i)
    if inside:
        edges.append(len(user))
    return np.array(edges, np.int64)


@brief_kernel
def within(outer: Stretches, inner: Stretches) -> Stretches:
    """Where stretches of what stands in others are in the whole; both in order."""
    found = np.empty((len(outer) + len(inner), 2), np.int64)
    count, place, begin = 0, 0, 0  # where the one at `place` begins among what stands in them
    for a, b in inner:
        while a < b:
            end = begin + outer[place, 1] - outer[place, 0]
            if a < end:
                move = outer[place, 0] - begin
                found[count, 0], found[count, 1] = a + move, min(b, end) + move
                count += 1
                a = min(b, end)
            else:
                place, begin = place + 1, end
    return found[:count]


_FEW = 20_000
"""So many are copied in microseconds."""


def picked(column: NDArray[Number], own: Stretches) -> NDArray[Number]:
    """What stands in some stretches of a column."""
    few = (own[:, 1] - own[:, 0]).sum() < _FEW
    return (_few_kept if few else kept)(read_only(column), own)


@brief_kernel
def _few_kept(column: Column, own: Stretches) -> Column:
    return kept(column, own)


@kernel
def kept(column: Column, own: Stretches) -> Column:
    """The same for kernels."""
    found = np.empty((own[:, 1] - own[:, 0]).sum(), column.dtype)
    at = 0
    for a, b in own:
        for i in range(a, b):
            found[at] = column[i]
            at += 1
    return found


class Codes:
    """The codes of all terms of a log that goes on growing; `of` has those of each dictionary."""

    def __init__(self, terms: dict[str, list[str]]) -> None:
        self.terms = terms
        self.of = {name: {term: i for i, term in enumerate(terms[name])} for name in terms}

    def recoded(self, tail: Log) -> Log:
        """The tail in these codes; its terms that are new follow on those that there are."""
        codings, terms = {}, dict(self.terms)
        for name, codes in self.of.items():
            coding = [codes.setdefault(term, len(codes)) for term in tail.terms[name]]
            codings[name] = np.array(coding, "int32")
            if len(codes) > len(terms[name]):
                terms[name] = list(codes)
        self.terms = terms
        return Log(recoded(tail.columns, codings), terms)

    def go_on_from(self, name: str, texts: list[str]) -> None:
        """Take these texts for a dictionary, which begin with those that it has."""
        self.terms = {**self.terms, name: texts}
        for text in texts[len(self.of[name]) :]:
            self.of[name][text] = len(self.of[name])


def sample(parts: Iterable[Log], rows: int) -> list[Log]:
    """The first of these parts, as many as have so many rows together, but at least one.

    Which users are in them depends on their names alone.
    """
    taken: list[Log] = []
    for part in parts:
        if taken and sum(map(len, taken)) + len(part) > rows:
            break
        taken.append(part)
    return taken


def bucket_of(users: Sequence[str], parts: int) -> Column:
    """The part that each user is put to; shape (users,)."""
    return np.array([zlib.crc32(user.encode()) % parts for user in users], "int32")


@kernel
def sorted_rows(
    user: Column, users: int, time: Column, order: Column, file: Column, line: Column
) -> NDArray[np.int64]:
    """A counting sort by user, then a sort of each user whose rows are not yet in order."""
    starts = np.zeros(users + 1, np.int64)
    for u in user:
        starts[u + 1] += 1
    for u in range(users):
        starts[u + 1] += starts[u]
    rows = np.empty(len(user), np.int64)
    fill = starts.copy()
    for row in range(len(user)):
        rows[fill[user[row]]] = row
        fill[user[row]] += 1
    for u in range(users):
        _sort_run(rows[starts[u] : starts[u + 1]], time, order, file, line)
    return rows


@kernel
def comes_after(a: int, b: int, time: Column, order: Column, file: Column, line: Column) -> bool:
    if time[a] != time[b]:
        return time[a] > time[b]
    if order[a] != order[b]:
        return order[a] > order[b]
    if file[a] != file[b]:
        return file[a] > file[b]
    return line[a] > line[b]


@kernel
def _sort_run(
    rows: NDArray[np.int64], time: Column, order: Column, file: Column, line: Column
) -> None:
    """Bottom-up merge sort in place; a run that is in order already costs one pass."""
    n = len(rows)
    in_order = True
    for i in range(1, n):
        if comes_after(rows[i - 1], rows[i], time, order, file, line):
            in_order = False
            break
    if in_order:
        return
    source, target = rows.copy(), np.empty_like(rows)
    width = 1
    while width < n:
        for low in range(0, n, 2 * width):
            middle, high = min(low + width, n), min(low + 2 * width, n)
            i, j = low, middle
            for k in range(low, high):
                left = j >= high or (
                    i < middle and not comes_after(source[i], source[j], time, order, file, line)
                )
                if left:
                    target[k] = source[i]
                    i += 1
                else:
                    target[k] = source[j]
                    j += 1
        source, target = target, source
        width *= 2
    rows[:] = source
