"""Replayed parts that are in a folder and not in memory: of logs that are too large for it, and
where many machines work on one."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass
from functools import cached_property, partial
from typing import Any, NamedTuple, TypeVar

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.inference.transitions import TransitionModel
from mossy_trail.core.model.app_map import AppMap, Places, resolve
from mossy_trail.core.model.installs import Tail
from mossy_trail.core.model.log import DTYPES, NONE, Column, Log, of_users, users_with
from mossy_trail.core.model.properties import Property, property_of
from mossy_trail.core.model.steps import Steps
from mossy_trail.core.replay.ends import Ends, last_moment
from mossy_trail.core.replay.marks import ways
from mossy_trail.core.replay.replay import replay
from mossy_trail.core.replay.run import STEP_DTYPE
from mossy_trail.engine.recent import Recent
from mossy_trail.engine.workers import growers, makers, threads
from mossy_trail.store.folder import Folder, LogParts, OneByOne
from mossy_trail.store.replays import keep, kept

Answer = TypeVar("Answer")
WORKED_OUT = 1.5
"""The memory of a part that is asked, beside that of its columns: what measures work out of it."""
ROOM = 4 << 30
"""Memory for parts that are open, in a process."""


@dataclass(frozen=True)
class Shelf:
    """Where parts are replayed to, who works on them, and how much of them a process has open.

    Its `workers` may be on other machines if these reach the folder, and that of the log.
    """

    folder: Folder
    workers: Executor
    room: int = ROOM

    def by(self, own: Executor) -> Executor:
        """Who works on this machine, or else its workers."""
        return own if self.workers is threads else self.workers


@dataclass(frozen=True, eq=False)
class Since:
    """What whoever opens parts has to know of rows that came after they were put on the shelf."""

    times: int
    """How often some came."""
    users: NDArray[np.int32]
    """Who is in none of these parts any more, by their codes."""
    added: dict[str, list[str]]
    """Texts that follow on those of the log's dictionaries."""

    def then(self, users: NDArray[np.int32], added: dict[str, list[str]]) -> Since:
        """When some have come once more."""
        return Since(self.times + 1, np.union1d(self.users, users), added)

    def keep(self, folder: Folder) -> None:
        told = {"users": self.users.tolist(), "added": self.added}
        folder.write(_since(self.times), json.dumps(told).encode())

    @classmethod
    def kept(cls, folder: Folder, times: int) -> Since:
        if not times:
            return cls(0, np.empty(0, "int32"), {})
        told = json.loads(bytes(folder.read(_since(times))))
        return cls(times, np.array(told["users"], "int32"), told["added"])


def _since(times: int) -> str:
    return f"since-{times}.json"


class Put(NamedTuple):
    """What is told of a part when it has been put on the shelf."""

    ends: Ends
    users: NDArray[np.int32]


@dataclass(frozen=True)
class Taken:
    """What a part had of users who leave it: their rows, and what these told of ends."""

    columns: dict[str, Column]
    ways: NDArray[np.int64]

    @property
    def rows(self) -> int:
        return len(self.columns["time"])


class Lately(NamedTuple):
    """All rows of the users who had some since parts were put on the shelf, as one part."""

    log: Log
    steps: Steps


class Grounds(NamedTuple):
    """What more rows are put beside the parts on."""

    end: Ends
    """What the rows tell that are left on the shelf."""
    rows: int
    """How many these are."""
    home: NDArray[np.int32]
    """The part that each user was put into; shape (users,)."""
    lately: Lately | None = None


class ShelvedParts(OneByOne[Steps]):
    """The replay of a log's parts. Each is opened when it is asked for; those that were not asked
    for longest are let go. The rows of users who had some since are one part more, in memory.

    To a worker it is handed over by where it is, without that last part: each has its own, of what
    it asks.
    """

    def __init__(
        self,
        logs: LogParts,
        shelf: Shelf,
        app_map: AppMap,
        end: Ends | None = None,
        since: int = 0,
        grounds: Grounds | None = None,
    ) -> None:
        self.logs, self.shelf, self.app_map = logs, shelf, app_map
        self._end, self._grounds = end, grounds
        self._since = Since.kept(shelf.folder, since)
        self._open: Recent[Steps] = Recent(shelf.room, _size)

    @classmethod
    def replayed(
        cls,
        logs: LogParts,
        shelf: Shelf,
        app_map: AppMap,
        read_at: int,
        usual: TransitionModel | None,
    ) -> ShelvedParts:
        """Replay each part, and put it on the shelf."""
        bare = cls(logs, shelf, app_map)
        put = partial(ShelvedParts.put, read_at=read_at, usual=usual)
        puts = list(shelf.by(makers).map(partial(put, bare), range(len(logs))))
        end = Ends.together([own.ends for own in puts])
        if end is None:
            return bare
        home = np.full(len(logs.terms["user"]), NONE, "int32")
        for number, own in enumerate(puts):
            home[own.users] = number
        return cls(logs, shelf, app_map, end, grounds=Grounds(end, sum(logs.rows), home))

    def grown(
        self, tail: Tail, places: Places, read_at: int, usual: TransitionModel | None
    ) -> ShelvedParts:
        """The same with more rows, at the cost of the parts that their users are in."""
        before, terms = self._grounds, tail.log.terms
        assert before, "there are parts"
        moving = self._moving(tail, before.home)
        take = partial(ShelvedParts.taken, users=moving)
        taken = self._soon(take, np.unique(before.home[moving]).tolist())
        beside = [before.lately.log.columns] if before.lately else []
        beside += [own.columns for own in taken]
        together = tail.joined_by([Log(columns, terms) for columns in beside])
        replayed = replay(together, self.app_map, usual, places=places)
        platform = property_of(terms["props"], "platform")
        left = before.end.without([own.ways for own in taken])
        left = left.among(len(places.names), self.platform, platform)
        if read_at != left.read_at:
            left = left._replace(read_at=read_at, last=self._last_moment(read_at))
        end = left.with_those(Ends.of(together, replayed, read_at, platform))
        lately = Lately(together, end.marked(replayed, platform))
        rows = before.rows - sum(own.rows for own in taken)
        grounds = Grounds(left, rows, before.home, lately if len(together) else None)
        since = self._since.then(moving, self._added(terms))
        since.keep(self.shelf.folder)
        return ShelvedParts(self.logs, self.shelf, self.app_map, end, since.times, grounds)

    def _moving(self, tail: Tail, home: NDArray[np.int32]) -> NDArray[np.int32]:
        """Who is to leave the parts."""
        there = np.flatnonzero(tail.moving[: len(home)] & (home != NONE))
        return np.setdiff1d(there.astype("int32"), self._since.users)

    def _added(self, terms: dict[str, list[str]]) -> dict[str, list[str]]:
        return {name: texts[len(self.logs.terms[name]) :] for name, texts in terms.items()}

    def users_with(self, name: str, codes: Column) -> list[Column]:
        """Who has rows with one of these codes in a column, of each part; some of them have left
        for the last one."""
        tell = partial(ShelvedParts.users_in, name=name, codes=codes)
        return self._soon(tell, range(len(self.logs)))

    def _last_moment(self, read_at: int) -> int:
        tell = partial(ShelvedParts.last_moment, read_at=read_at)
        return max(self._soon(tell, range(len(self.logs))))

    @property
    def rows_lately(self) -> int:
        return len(self._lately.log) if self._lately else 0

    @property
    def rows(self) -> int:
        return (self._grounds.rows if self._grounds else 0) + self.rows_lately

    @property
    def _lately(self) -> Lately | None:
        return self._grounds.lately if self._grounds else None

    @property
    def name(self) -> tuple[str, int, bool]:
        """Tells it from others, and from what it was before."""
        return self.shelf.folder.url, self._since.times, self._end is None

    @cached_property
    def terms(self) -> dict[str, list[str]]:
        added = self._since.added
        return {name: texts + added.get(name, []) for name, texts in self.logs.terms.items()}

    @cached_property
    def places(self) -> Places:
        return resolve(self.app_map, self.terms)

    @cached_property
    def platform(self) -> Property:
        return property_of(self.terms["props"], "platform")

    def __len__(self) -> int:
        return len(self.logs) + bool(self._lately)

    def _at(self, number: int) -> Steps:
        if self._lately and number == len(self.logs):
            return self._lately.steps
        return self._open.of(number, lambda: self._opened(number))

    def _opened(self, number: int) -> Steps:
        steps = self._whole(number)
        stay = ~self._mask(self._since.users)
        if not stay[steps.log.columns["user"]].all():
            steps = steps.of_users(stay)
        return self._end.marked(steps, self.platform) if self._end else steps

    def _whole(self, number: int) -> Steps:
        """As it was put on the shelf."""
        log = Log(self.logs[number].columns, self.terms)
        return kept(self.shelf.folder, number, log, self.places)

    def _mask(self, users: NDArray[np.int32]) -> NDArray[np.bool_]:
        mask = np.zeros(len(self.terms["user"]), bool)
        mask[users] = True
        return mask

    def each(self, ask: Callable[..., Answer], *pieces: Sequence[Any]) -> list[Answer]:
        """The answer of every part, in order; it is asked with its piece of each of `pieces`."""
        shelved = range(len(self.logs))
        own = (piece[: len(shelved)] for piece in pieces)
        found = list(self.shelf.workers.map(partial(_asked, ask, self), shelved, *own))
        if self._lately:
            found.append(ask(self._lately.steps, *(own[len(shelved)] for own in pieces)))
        return found

    def _soon(self, make: Callable[..., Answer], numbers: Sequence[int]) -> list[Answer]:
        return list(self.shelf.by(growers).map(partial(make, self), numbers))

    def put(self, number: int, read_at: int, usual: TransitionModel | None) -> Put:
        log = self.logs[number]
        steps = replay(log, self.app_map, usual, places=self.places)
        keep(self.shelf.folder, number, steps, log)
        return Put(Ends.of(log, steps, read_at, self.platform), np.unique(log.columns["user"]))

    def taken(self, number: int, users: NDArray[np.int32]) -> Taken:
        mask = self._mask(users)
        own = ways(self._whole(number).of_users(mask), self.platform)
        return Taken(dict(of_users(self.logs[number], mask).columns), own)

    def users_in(self, number: int, name: str, codes: Column) -> Column:
        return users_with(self.logs[number], name, codes)

    def last_moment(self, number: int, read_at: int) -> int:
        return last_moment(self.logs[number], read_at)

    def __reduce__(self) -> tuple[Any, ...]:
        folders = self.logs.folder.url, self.shelf.folder.url
        asked = (*folders, self.shelf.room, self.app_map, self._end, self._since.times)
        return _elsewhere, (self.name, *asked)


def _asked(ask: Callable[..., Answer], parts: ShelvedParts, number: int, *pieces: Any) -> Answer:
    return ask(parts[number], *pieces)


_here: Recent[ShelvedParts] = Recent(2)
"""The parts that this process, as a worker, was asked of most recently."""


def _elsewhere(
    name: tuple[str, int, bool],
    logs: str,
    folder: str,
    room: int,
    app_map: AppMap,
    end: Ends | None,
    since: int,
) -> ShelvedParts:
    """The parts as a worker has them."""

    def opened() -> ShelvedParts:
        shelf = Shelf(Folder(folder), threads, room)
        return ShelvedParts(LogParts(Folder(logs)), shelf, app_map, end, since)

    return _here.of(name, opened)


def _size(steps: Steps) -> int:
    rows = len(steps.log) * sum(np.dtype(dtype).itemsize for dtype in DTYPES.values())
    own = len(steps.steps.journey) * STEP_DTYPE.itemsize
    others = sum(column.nbytes for column in (*steps.entries, *steps.journeys))
    return int(WORKED_OUT * (rows + own + others))
