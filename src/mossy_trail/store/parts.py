"""Parts of an app's rows as memory-mapped Arrow files: a cache of what PostgreSQL holds.

A folder says which logs it was made from, is made anew when it is missing, and may be
deleted at any time.
"""

from __future__ import annotations

import json
import shutil
from collections import defaultdict
from collections.abc import Callable, Iterable, Sequence
from hashlib import sha256
from pathlib import Path
from threading import Lock
from typing import NamedTuple
from weakref import WeakValueDictionary, finalize

import structlog
from sqlalchemy import Engine

from mossy_trail.core.model.installs import Installs
from mossy_trail.core.model.log import Codes, Log, each_part, merge, parts_needed
from mossy_trail.core.model.people import people
from mossy_trail.store.folder import MAKING, Folder, LogParts, write_parts
from mossy_trail.store.installs import read_installs, write_installs
from mossy_trail.store.logs import LAST_LINE, read_log, read_tail

SMALL_TAIL = 20_000
"""Rows of a live log that are put into parts in memory, however few these are."""
_note = structlog.get_logger()


def most_beside(rows: int) -> int:
    """Rows of live logs that are put beside so many in memory, before all are written anew."""
    return max(rows // 10, SMALL_TAIL)


class Stamp(NamedTuple):
    """Which rows of a log are meant: of which version, and of a live one up to which line."""

    log: int
    version: int
    through: int = 0

    def read(self, engine: Engine, after: int = 0) -> Log:
        """These rows, or those after a line; not what a live log has grown by since."""
        through = self.through or LAST_LINE
        if after:
            return read_tail(engine, self.log, after, through)
        return read_log(engine, self.log, through)


class Loaded(NamedTuple):
    """The parts of logs together, and what is known of their installs."""

    parts: Sequence[Log]
    installs: Installs


class PartsCache:
    def __init__(self, engine: Engine, folder: Path) -> None:
        self._engine, self._folder = engine, folder
        self._asked: WeakValueDictionary[str, LogParts] = WeakValueDictionary()
        self._locks: defaultdict[int, Lock] = defaultdict(Lock)

    def load(
        self,
        app_id: int,
        stamps: Sequence[Stamp],
        fresh: dict[int, Log],
        large: Callable[[int], bool] = lambda rows: False,
    ) -> Loaded:
        """These logs together.

        `fresh` holds logs that are in memory already; they are taken out, to be let go. Those of so
        many rows that they are `large` are always `LogParts`.

        Where a live log has grown only a little since parts were written, its new rows are put
        into these in memory. One at a time loads those of an app, as they may be written.
        """
        with self._locks[app_id]:
            return self._load(app_id, sorted(stamps), fresh, large)

    def _load(
        self,
        app_id: int,
        stamps: Sequence[Stamp],
        fresh: dict[int, Log],
        large: Callable[[int], bool],
    ) -> Loaded:
        found = self._find(app_id, stamps)
        if found:
            written, loaded, rows = found
            tail = self.tail(written, stamps, rows)
            if tail is not None and not len(tail):
                return loaded
            extended = None if tail is None else _extended(loaded, tail)
            if tail is not None and extended:
                if len(tail) <= most_beside(rows) and not large(rows + len(tail)):
                    return extended
                return self._write(app_id, stamps, *extended, extended.parts[0].terms)
        held: list[Log | None] = [fresh.pop(stamp.log, None) for stamp in stamps]
        logs = [
            log if log is not None else stamp.read(self._engine)
            for log, stamp in zip(held, stamps, strict=True)
        ]
        merged = merge(logs)
        installs, whole = Installs.of(merged), people(merged)
        split_up = each_part(whole, parts_needed(len(whole)))
        return self._write(app_id, stamps, split_up, installs, whole.terms)

    def tail(self, before: Sequence[Stamp], after: Sequence[Stamp], most: int) -> Log | None:
        """The rows that live logs have grown by; None where that is not all that has changed, or
        where they have more than so many lines."""
        grown = _grown(sorted(before), sorted(after))
        if grown is None or sum(stamp.through - line for stamp, line in grown) > most:
            return None
        return merge([stamp.read(self._engine, line) for stamp, line in grown])

    def _find(self, app_id: int, stamps: Sequence[Stamp]) -> tuple[list[Stamp], Loaded, int] | None:
        """Parts of these logs, in which at most rows of live ones are missing, and how many rows
        they have."""
        found = []
        for folder in self._folder.glob(f"app-{app_id}.*"):
            if folder.suffix == MAKING:
                continue
            try:
                parts = LogParts(Folder(folder))
                written = [Stamp(*stamp) for stamp in parts.contents["stamps"]]
                if _grown(written, stamps) is not None:
                    parts.check()
                    loaded = Loaded(self._held(parts), read_installs(parts.folder))
                    found.append((written, loaded, sum(parts.rows)))
            except (OSError, ValueError, LookupError) as error:
                _note.warning("a cache of parts is broken", folder=folder.name, error=str(error))
        return max(found, key=lambda one: one[0], default=None)

    def _write(
        self,
        app_id: int,
        stamps: Sequence[Stamp],
        parts: Iterable[Log],
        installs: Installs,
        terms: dict[str, list[str]],
    ) -> Loaded:
        self._folder.mkdir(parents=True, exist_ok=True)
        name = sha256(json.dumps(stamps).encode()).hexdigest()[:24]
        folder = self._folder / f"app-{app_id}.{name}"
        self._clear(app_id, folder)
        making = folder.with_name(folder.name + MAKING)
        write_installs(Folder(making), installs)
        write_parts(Folder(making), parts, terms, stamps=stamps)
        making.rename(folder)
        return Loaded(self._held(LogParts(Folder(folder))), installs)

    def _held(self, parts: LogParts) -> LogParts:
        """These, or who is asked for them already."""
        return self._asked.setdefault(parts.folder.url, parts)

    def _clear(self, app_id: int, wanted: Path) -> None:
        """Take an app's folders away. What is mapped in memory stays readable; what is opened part
        by part goes when it is not asked any more, unless its place is wanted."""
        for left in self._folder.glob(f"app-{app_id}.*{MAKING}"):
            shutil.rmtree(left, ignore_errors=True)
        for old in self._folder.glob(f"app-{app_id}.*"):
            asked = self._asked.get(str(old))
            if asked is None or old == wanted:
                _remove(old)
            else:
                finalize(asked, _remove, old)


def _remove(folder: Path) -> None:
    """Renamed first, so that what is half gone when the server is killed is not taken for whole."""
    if folder.exists():
        shutil.rmtree(folder.rename(folder.with_name(folder.name + MAKING)), ignore_errors=True)


def _extended(loaded: Loaded, tail: Log) -> Loaded | None:
    """With more rows; None where only all rows together tell whose these are."""
    parts, installs = loaded
    if not parts:
        return None
    codes = Codes(parts[0].terms)
    arrived = installs.arrived(tail, codes.of["account"])
    if arrived is None:
        return None
    installs.learn(arrived.known)
    return Loaded(arrived.under(codes).into(parts), installs)


def _grown(before: Sequence[Stamp], after: Sequence[Stamp]) -> list[tuple[Stamp, int]] | None:
    """Live logs with rows beyond a line, where all others are the same; both in order.

    A live log may be new if it is the last one: then its files follow on those that there are.
    """
    known = after[: len(before)]
    same = [(s.log, s.version) for s in before] == [(s.log, s.version) for s in known]
    new = [(stamp, 0) for stamp in after[len(before) :]]
    grown = [(b, a.through) for a, b in zip(before, known, strict=False) if a != b]
    if not same or any(line > stamp.through for stamp, line in grown):
        return None
    return [*grown, *new] if all(stamp.through for stamp, _ in new) else None
