"""Replayed parts that are in a folder and not in memory: of logs that are too large for it, and
where many machines work on one."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass
from functools import cached_property, partial
from typing import Any, TypeVar, overload

import numpy as np

from mossy_trail.core.inference.transitions import TransitionModel
from mossy_trail.core.model.app_map import AppMap, Places, resolve
from mossy_trail.core.model.properties import Property, property_of
from mossy_trail.core.model.steps import Steps
from mossy_trail.core.replay.ends import Ends
from mossy_trail.core.replay.replay import replay
from mossy_trail.engine.recent import Recent
from mossy_trail.engine.workers import threads
from mossy_trail.store.folder import Folder, LogParts
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


class ShelvedParts(Sequence[Steps]):
    """The replay of a log's parts. Each is opened when it is asked for; those that were not asked
    for longest are let go.

    To a worker it is handed over by where it is: each has its own, of what it asks.
    """

    def __init__(
        self,
        logs: LogParts,
        shelf: Shelf,
        app_map: AppMap,
        read_at: int,
        end: Ends | None = None,
    ) -> None:
        self.logs, self.shelf, self.app_map = logs, shelf, app_map
        self._read_at, self._end = read_at, end
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
        bare = cls(logs, shelf, app_map, read_at)
        ends = bare._ask_each(partial(ShelvedParts.put, usual=usual))
        return cls(logs, shelf, app_map, read_at, Ends.together(ends))

    @cached_property
    def places(self) -> Places:
        return resolve(self.app_map, self.logs.terms)

    @cached_property
    def platform(self) -> Property:
        return property_of(self.logs.terms["props"], "platform")

    def __len__(self) -> int:
        return len(self.logs)

    @overload
    def __getitem__(self, number: int) -> Steps: ...

    @overload
    def __getitem__(self, number: slice) -> list[Steps]: ...

    def __getitem__(self, number: int | slice) -> Steps | list[Steps]:
        if isinstance(number, slice):
            return [self[i] for i in range(len(self))[number]]
        place = range(len(self))[number]
        return self._open.of(place, lambda: self._opened(place))

    def _opened(self, number: int) -> Steps:
        steps = kept(self.shelf.folder, number, self.logs[number], self.places)
        if self._end:
            self._end.mark(steps, self.platform)
        return steps

    def each(self, ask: Callable[..., Answer], *pieces: Sequence[Any]) -> list[Answer]:
        """The answer of every part, in order; it is asked with its piece of each of `pieces`."""
        return self._ask_each(partial(_asked, ask), *pieces)

    def _ask_each(self, ask: Callable[..., Answer], *pieces: Sequence[Any]) -> list[Answer]:
        return list(self.shelf.workers.map(partial(ask, self), range(len(self)), *pieces))

    def put(self, number: int, usual: TransitionModel | None) -> Ends:
        log = self.logs[number]
        steps = replay(log, self.app_map, usual)
        keep(self.shelf.folder, number, steps, log)
        return Ends.of(log, steps, self._read_at, self.platform)

    def __reduce__(self) -> tuple[Any, ...]:
        folders = self.logs.folder.url, self.shelf.folder.url
        return _elsewhere, (*folders, self.shelf.room, self.app_map, self._read_at, self._end)


def _asked(ask: Callable[..., Answer], parts: ShelvedParts, number: int, *pieces: Any) -> Answer:
    return ask(parts[number], *pieces)


_here: Recent[ShelvedParts] = Recent(2)
"""The parts that this process, as a worker, was asked of most recently."""


def _elsewhere(
    logs: str, folder: str, room: int, app_map: AppMap, read_at: int, end: Ends | None
) -> ShelvedParts:
    """The parts as a worker has them."""

    def opened() -> ShelvedParts:
        shelf = Shelf(Folder(folder), threads, room)
        return ShelvedParts(LogParts(Folder(logs)), shelf, app_map, read_at, end)

    return _here.of((folder, end is None), opened)


def _size(steps: Steps) -> int:
    tables = (steps.entries, steps.steps, steps.journeys, tuple(steps.log.columns.values()))
    return int(WORKED_OUT * sum(np.asarray(own).nbytes for table in tables for own in table))
