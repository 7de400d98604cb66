"""The studies of all apps: made when asked for, and made anew when a log or map changes."""

from __future__ import annotations

import shutil
from collections import defaultdict
from concurrent.futures import Executor
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from threading import Lock, Thread
from time import monotonic
from uuid import uuid4
from weakref import finalize

from sqlalchemy import Engine, func, select
from sqlalchemy.orm import Session

from mossy_trail.core.model.app_map import AppMap
from mossy_trail.core.model.log import Log
from mossy_trail.engine.shelf import Shelf
from mossy_trail.engine.study import Study
from mossy_trail.engine.workers import threads
from mossy_trail.store.folder import Folder, LogParts
from mossy_trail.store.models import AppMapVersion, StoredLog
from mossy_trail.store.parts import PartsCache, Stamp, most_beside

BYTES_A_ROW = 150
"""Memory that a row takes with its replay, as it is asked."""
ANEW = "anew"
"""The thread that makes a study anew while it is being asked."""
FEWEST_TO_GROW = 500_000
"""Rows of a study from which on live ones are put beside them, instead of making it anew."""
LONGEST_REST = 15.0
"""Seconds that figures may lag behind live rows, however long a study takes to be made."""
REST_OF_GROWN = 0.25
"""Likewise where live rows are only put beside one that is in memory."""


def most_lately(study: Study) -> int:
    """Rows of users who had some lately, before all is made anew. On a shelf these are one part in
    memory, which is replayed each time; in memory they are parts like others once they are many."""
    return most_beside(study.rows) if study.shelved else study.rows // 2


@dataclass(frozen=True)
class Version:
    """What a study was made from."""

    logs: tuple[Stamp, ...]
    map: int
    read_at: int

    def __str__(self) -> str:
        return f"{self.map}:{hash(self.logs) & 0xFFFFFFFF:x}"

    def differs_in_live_rows_only(self, other: Version) -> bool:
        def of(version: Version) -> tuple[list[tuple[int, int]], int]:
            return [(stamp.log, stamp.version) for stamp in version.logs], version.map

        return of(self) == of(other)


@dataclass(frozen=True)
class _Made:
    version: Version
    study: Study
    at: float
    took: float
    grew: bool = False

    def rests(self, version: Version) -> bool:
        """It was made so lately that doing so again for a few live rows would keep a core busy."""
        only_live = self.version.differs_in_live_rows_only(version)
        most = REST_OF_GROWN if self.grew else LONGEST_REST
        rest = self.took if self.study.shelved else min(self.took, most)
        return only_live and monotonic() - self.at < rest

    def lags(self, version: Version) -> bool:
        """It lacks live rows, and making it anew takes so long that it is asked meanwhile."""
        long = self.study.shelved or self.study.rows >= FEWEST_TO_GROW
        return long and self.version.differs_in_live_rows_only(version)


class Studies:
    """All of them take about so much `memory` together, in bytes.

    One that would take more by itself is replayed into the folder `shelves` and mapped from there;
    so is every one that `workers` work on.
    """

    def __init__(
        self,
        engine: Engine,
        parts: PartsCache,
        shelves: Path,
        memory: int,
        workers: Executor | None = None,
    ) -> None:
        self._engine, self._parts, self._workers = engine, parts, workers
        self._shelves, self._memory = shelves, memory
        shutil.rmtree(shelves, ignore_errors=True)
        self._made: dict[int, _Made] = {}
        self._order = Lock()
        self._fresh: dict[int, Log] = {}
        self._behind: set[int] = set()
        self._locks: defaultdict[int, Lock] = defaultdict(Lock)

    def of(self, app_id: int) -> Study:
        """The study of an app's logs under its newest map."""
        with self._locks[app_id]:
            version = self._version(app_id)  # one asked for outside may be older than what is made
            made = self._made.get(app_id)
            if made is None or made.version != version:
                made = self._made_of(app_id, made, version)
            self._keep(app_id, made)
        behind = made.version != version and not made.rests(version)
        if behind or made.study.rows_lately > most_lately(made.study):
            self._make_behind(app_id, version)
        return made.study

    def _made_of(self, app_id: int, before: _Made | None, version: Version) -> _Made:
        begun = monotonic()
        if before and not (before.grew and before.rests(version)):
            grown = self._grown(before, version)
            if grown:
                return _Made(version, grown, monotonic(), monotonic() - begun, grew=True)
        if before and (before.rests(version) or before.lags(version)):
            return before
        study = self._make(app_id, version)
        return _Made(version, study, monotonic(), monotonic() - begun)

    def _grown(self, made: _Made, version: Version) -> Study | None:
        """The study with the rows that came since, where these are few beside those that there are;
        small ones in memory are made anew, as that is as quick."""
        small = made.study.rows < FEWEST_TO_GROW and not made.study.shelved
        if small or made.version.map != version.map:
            return None
        most = most_beside(made.study.rows)
        tail = self._parts.tail(made.version.logs, version.logs, most)
        return None if tail is None else made.study.grown(tail, version.read_at, str(version))

    def _make_behind(self, app_id: int, version: Version) -> None:
        """Make a study anew of which much has grown, while it goes on being asked and growing."""

        def make() -> None:
            try:
                begun = monotonic()
                study = self._make(app_id, version)
                took = monotonic() - begun
                with self._locks[app_id]:
                    made = self._made.get(app_id)
                    if made and version.differs_in_live_rows_only(made.version):
                        self._keep(app_id, _Made(version, study, monotonic() - took, took))
            finally:
                self._behind.discard(app_id)

        if app_id not in self._behind:
            self._behind.add(app_id)
            Thread(target=make, name=ANEW, daemon=True).start()

    def _keep(self, app_id: int, made: _Made) -> None:
        """Keep it as the newest; those unused for longest go when together they are too large."""
        with self._order:
            self._made.pop(app_id, None)
            room = self._memory - self._takes(made.study.rows)
            for other, study in reversed(list(self._made.items())):
                room -= self._takes(study.study.rows)
                if room < 0:
                    del self._made[other]
            self._made[app_id] = made

    def keep(self, log_id: int, log: Log) -> None:
        """A log was stored that is still in memory: make the next study from there."""
        self._fresh[log_id] = log

    def landed(self, app_id: int) -> None:
        """Make the study of an app in which a log has landed."""
        try:
            self.of(app_id)
        finally:
            self._fresh.clear()

    def _version(self, app_id: int) -> Version:
        with Session(self._engine) as session:
            query = select(StoredLog).where(StoredLog.app_id == app_id, StoredLog.rows > 0)
            logs = list(session.scalars(query.order_by(StoredLog.id)))
            newest = select(func.max(AppMapVersion.version)).where(AppMapVersion.app_id == app_id)
            stamps = tuple(Stamp(log.id, log.version, log.through) for log in logs)
            read_at = max((_read_at(log) for log in logs), default=0)
            return Version(stamps, session.scalar(newest) or 0, read_at)

    def _make(self, app_id: int, version: Version) -> Study:
        app_map = self._map(app_id, version.map)
        if not version.logs:
            return Study([], app_map, version.read_at, str(version))
        loaded = self._parts.load(app_id, version.logs, self._fresh, self._is_shelved)
        parts, shelf = loaded.parts, None
        if isinstance(parts, LogParts) and self._is_shelved(sum(parts.rows)):
            folder = self._shelves / f"app-{app_id}-{uuid4().hex}"
            shelf = Shelf(Folder(folder), self._workers or threads, self._memory // 2)
            finalize(shelf, shelf.folder.remove)
        return Study(parts, app_map, version.read_at, str(version), shelf, loaded.installs)

    def _is_shelved(self, rows: int) -> bool:
        return self._workers is not None or rows * BYTES_A_ROW > self._memory

    def _takes(self, rows: int) -> int:
        return min(rows * BYTES_A_ROW, self._memory // 2)

    def _map(self, app_id: int, version: int) -> AppMap:
        with Session(self._engine) as session:
            query = select(AppMapVersion.document).where(
                AppMapVersion.app_id == app_id, AppMapVersion.version == version
            )
            return AppMap.from_dict(session.scalar(query) or {})


def _read_at(log: StoredLog) -> int:
    """When the log's newest rows came in, in microseconds since 1970; a live one is read now."""
    moment = datetime.now(UTC).replace(minute=0, second=0) if log.live else log.created_at
    return int(moment.timestamp()) * 1_000_000
