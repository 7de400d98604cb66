"""A study: all parts of one app, replayed under one map, ready for questions."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from functools import cached_property, partial
from itertools import pairwise
from typing import Any, NamedTuple, TypeVar

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.model.app_map import AppMap, Places, resolve
from mossy_trail.core.model.installs import Installs, Tail
from mossy_trail.core.model.log import (
    DICTIONARIES,
    ROWS_PER_PART,
    Codes,
    Column,
    Log,
    of_users,
    sample,
    users_with,
)
from mossy_trail.core.model.properties import Property, property_of
from mossy_trail.core.model.steps import FATES, Steps, Users
from mossy_trail.core.replay.ends import Ends
from mossy_trail.core.replay.marks import ways
from mossy_trail.core.replay.replay import learn, replay
from mossy_trail.engine.recent import Recent
from mossy_trail.engine.shelf import Shelf, ShelvedParts
from mossy_trail.engine.workers import makers, soon, threads
from mossy_trail.store.folder import LogParts

MOST_GROUPS = 12
"""Values of a property for which figures are told, at the most."""
MOST_KEPT = 24
"""Segments, figures' journeys, and groups that are kept for the next question."""
MOST_ORDERS = 6
"""Lists of journeys that are kept in order."""
MOST_LABELS = 4
"""Labels of journeys that are kept, as a figure's journeys are asked for after the figure."""
MOST_BYTES = 512 << 20
"""Memory for what measures say happened in which journeys, so that Compare and Findings ask once
what they both look at."""
LARGE_ENOUGH = ROWS_PER_PART // 2
"""Rows of users who had some lately from which on these are a part that rests, but for the users of
rows that come; while it has fewer, all of it is replayed anew with them."""
ENOUGH_TO_LEARN = 100_000
"""Rows that tell how usual each move is in an app."""
Answer = TypeVar("Answer")
Item = TypeVar("Item")
Element = TypeVar("Element", bound=np.generic)


@dataclass(frozen=True)
class JourneyRef:
    """Where a journey stands: its part, and its number in there."""

    part: int
    number: int


@dataclass(frozen=True, eq=False)
class Index:
    """Every journey of a study in one table, each column of shape (journeys,)."""

    part: NDArray[np.int32]
    number: NDArray[np.int32]
    start: NDArray[np.int64]
    end: NDArray[np.int64]
    steps: NDArray[np.int32]
    deepest: NDArray[np.int32]
    user: NDArray[np.int32]
    session: NDArray[np.int32]

    def ref(self, position: int) -> JourneyRef:
        return JourneyRef(int(self.part[position]), int(self.number[position]))


class Study:
    """The replay of an app's log, part by part.

    All parts share their dictionaries, and every measure is asked of each part and merged: on
    threads, or by whoever works at a `shelf`, where parts are put that are not to be in memory.
    `read_at` is when the newest of the rows came in, in microseconds since 1970: what lies
    later has a wrong clock, and says nothing of when the log ends. `version` names the rows
    and the map that it was made from; by `installs` it can grow.
    """

    def __init__(
        self,
        parts: Sequence[Log],
        app_map: AppMap,
        read_at: int | None = None,
        version: str = "",
        shelf: Shelf | None = None,
        installs: Installs | None = None,
    ) -> None:
        self._begin(app_map, read_at, version, installs)
        some = sample((part for part in parts if len(part)), ENOUGH_TO_LEARN)
        self._usual = learn(some, app_map)[0] if some else None
        self.parts: list[Steps] | ShelvedParts
        if shelf and isinstance(parts, LogParts):
            self.parts = ShelvedParts.replayed(parts, shelf, app_map, self.read_at, self._usual)
            return
        self._logs = [part for part in parts if len(part)]
        self._grown_from = len(self._logs)
        self.parts = []
        if self._logs:
            replayed = self._replay(resolve(app_map, self._logs[0].terms))
            self.parts = list(makers.map(replayed, self._logs))
        self._mark_ends({}, None)

    @classmethod
    def of(cls, parts: ShelvedParts, read_at: int, version: str) -> Study:
        """The study of parts that were replayed elsewhere."""
        study = cls.__new__(cls)
        study._begin(parts.app_map, read_at, version)
        study.parts = parts
        return study

    def __reduce__(self) -> tuple[Any, ...]:
        """As a worker at its shelf has it; what is in memory alone goes nowhere."""
        if not isinstance(self.parts, ShelvedParts):
            raise TypeError("only what is on a shelf can be handed over")
        return _elsewhere, (self.parts, self.read_at, self.version)

    @property
    def shelved(self) -> bool:
        return isinstance(self.parts, ShelvedParts)

    def _begin(
        self,
        app_map: AppMap,
        read_at: int | None,
        version: str,
        installs: Installs | None = None,
    ) -> None:
        self.app_map = app_map
        self.version = version
        self.read_at = int(time.time() * 1e6) if read_at is None else read_at
        self._codes: Codes | None = None
        self._installs = installs
        self._properties: dict[str, Property] = {}
        self.known: dict[str, Any] = {}
        """What is the same for all questions, worked out by the first that needs it."""
        self.scopes: Recent[NDArray[np.bool_]] = Recent(MOST_KEPT)
        self.segments: Recent[NDArray[np.bool_]] = Recent(MOST_KEPT)
        self.evidence: Recent[NDArray[np.bool_]] = Recent(MOST_KEPT)
        self.groups: Recent[Any] = Recent(MOST_KEPT)
        self.orders: Recent[tuple[Any, Any]] = Recent(MOST_ORDERS)
        self.values: Recent[Any] = Recent(10 * MOST_KEPT)
        self.comparisons: Recent[Any] = Recent(MOST_LABELS)
        self.labels: Recent[Any] = Recent(MOST_LABELS)
        self.told: Recent[Any] = Recent(MOST_BYTES, lambda parts: sum(one.size for one in parts))

    def grown(self, tail: Log, read_at: int, version: str) -> Study | None:
        """The same with more rows, at the cost of the users that they are of; only the newest study
        is to grow. None where it has to be made anew: where only all rows tell who these are of, or
        names mean something else by those that are new.

        These users come together in the last part, and leave those that they were in; while it is
        large enough, it rests like others. How usual moves are is as it was learned when the study
        was made.
        """
        if not self.parts or self._installs is None:
            return None
        before = self.places
        codes = self._codes or Codes(self.terms)
        codes.go_on_from("params", before.params)
        arrived = self._installs.arrived(tail, codes.of["account"])
        if arrived is None:
            return None
        own = arrived.under(codes)
        places = resolve(self.app_map, own.log.terms)
        links = places.links_told_since(before)
        if links is None:
            return None
        if len(links):
            own = own.with_users(self._users_with("uri", links))
        study = Study.__new__(Study)
        study._begin(self.app_map, read_at, version, self._installs)
        study._usual, study._codes = self._usual, codes
        if isinstance(self.parts, ShelvedParts):
            study.parts = self.parts.grown(own, places, read_at, self._usual)
        else:
            study._mark_ends(study._take_over(self, places, own), self._end)
        self._installs.learn(arrived.known)
        return study

    @property
    def places(self) -> Places:
        """What the names of the log mean; there is one."""
        if isinstance(self.parts, ShelvedParts):
            return self.parts.places
        return self.parts[0].places

    def _users_with(self, name: str, codes: Column) -> list[Column]:
        if isinstance(self.parts, ShelvedParts):
            return self.parts.users_with(name, codes)
        return soon(partial(users_with, name=name, codes=codes), self._logs)

    def _take_over(self, before: Study, places: Places, tail: Tail) -> dict[int, Ends]:
        """The parts of an earlier study, but for the users of its last rows and of the tail; what
        is known of their ends, by their places."""
        terms, grown = tail.log.terms, before._grown_from
        since = range(grown, len(before._logs))
        small = [i for i in since if len(before._logs[i]) < LARGE_ENOUGH]
        resting = [i for i in range(len(before._logs)) if i not in small]
        platform = before.property("platform")

        def without(i: int) -> _Left:
            log, steps, ends = before._logs[i].under(terms), before.parts[i], before._ends[i]
            gone = of_users(log, tail.moving)
            if len(gone):
                ends = ends.without([ways(steps.of_users(tail.moving), platform)])
                log, steps = of_users(log, ~tail.moving), steps.of_users(~tail.moving)
            return _Left(i < grown, log, steps.under(terms, places), ends, gone)

        found = soon(without, resting)
        beside = [before._logs[i].under(terms) for i in small]
        together = tail.joined_by([*beside, *(part.gone for part in found)])
        left = [part for part in found if len(part.log)]
        self._logs = [part.log for part in left]
        self.parts = [part.steps for part in left]
        self._grown_from = sum(part.made for part in left)
        lately = _shared(together)
        self._logs += lately
        self.parts += soon(self._replay(places), lately)
        return {place: part.ends for place, part in enumerate(left)}

    @property
    def rows_lately(self) -> int:
        """Rows of the users who had some since the study was made."""
        if isinstance(self.parts, ShelvedParts):
            return self.parts.rows_lately
        return sum(map(len, self._logs[self._grown_from :]))

    def _replay(self, places: Places) -> Callable[[Log], Steps]:
        return partial(replay, app_map=self.app_map, transitions=self._usual, places=places)

    def _mark_ends(self, known: dict[int, Ends], before: Ends | None) -> None:
        """What the end of all rows tells of journeys: which it cut, and which were dead ends; given
        what is known of parts, by their places, which were marked by what was told `before`."""
        platform, parts = self.property("platform"), list(self.parts)
        screens = parts[0].places.names if parts else []
        shape = (2, len(screens), len(platform.values) + 1)
        right = {
            i: own
            for i, own in known.items()
            if own.read_at == self.read_at and own.ways.shape == shape
        }
        others = [i for i in range(len(parts)) if i not in right]
        told = soon(lambda i: Ends.of(self._logs[i], parts[i], self.read_at, platform), others)
        right |= zip(others, told, strict=True)
        self._ends = [right[i] for i in range(len(parts))]
        self._end = end = Ends.together(self._ends)
        if end is None:
            return
        same = before is not None and np.array_equal(before.dead, end.dead)

        def marked(i: int) -> Steps:
            return end.marked(parts[i], platform, later=same and i in known)

        self.parts = soon(marked, range(len(parts)))

    @cached_property
    def edges(self) -> NDArray[np.int64]:
        """Where each part's journeys begin in the index, and where the last one's end."""
        return np.searchsorted(self.index.part, np.arange(len(self.parts) + 1))

    def pieces(self, column: NDArray[Element]) -> list[NDArray[Element]]:
        """What each part has of a column over the index."""
        return [column[a:b] for a, b in pairwise(self.edges.tolist())]

    @cached_property
    def users(self) -> list[Users]:
        """Whose each part's journeys are."""
        return [Users.among(own) for own in self.pieces(self.index.user)]

    @cached_property
    def rows(self) -> int:
        if isinstance(self.parts, ShelvedParts):
            return self.parts.rows
        return sum(self.each(lambda steps: len(steps.log)))

    @cached_property
    def steps(self) -> int:
        return sum(self.each(lambda steps: len(steps.steps.entry)))

    @property
    def terms(self) -> dict[str, list[str]]:
        if isinstance(self.parts, ShelvedParts):
            return self.parts.terms
        return self.parts[0].log.terms if self.parts else {name: [] for name in DICTIONARIES}

    def each(self, ask: Callable[..., Answer], *pieces: Sequence[Any]) -> list[Answer]:
        """The answer of every part, in order; it is asked with the part's steps, and with its piece
        of each of `pieces`. What it is asked with may have to be handed over to a worker."""
        if isinstance(self.parts, ShelvedParts):
            return self.parts.each(ask, *pieces)
        return list(threads.map(ask, self.parts, *pieces))

    def at_once(self, ask: Callable[..., Answer], *items: Iterable[Any]) -> list[Answer]:
        """The answer for each, in order; asked on this machine's threads, not from one of them."""
        return list(threads.map(ask, *items))

    @cached_property
    def index(self) -> Index:
        """All journeys, in order of parts."""
        found = self.each(_indexed) if self.shelved else soon(_indexed, self.parts)
        sizes = [len(own[0]) for own in found]

        def joined(place: int) -> NDArray[Any]:
            none = np.empty(0, list(_INDEXED.values())[place])
            return np.concatenate([none, *(own[place] for own in found)])

        numbers = [np.arange(size, dtype="int32") for size in sizes]
        return Index(
            np.repeat(np.arange(len(sizes), dtype="int32"), sizes),
            np.concatenate([np.empty(0, "int32"), *numbers]),
            *map(joined, range(len(_INDEXED))),
        )

    def property(self, name: str) -> Property:
        """A property of the log's rows, with its values."""
        if name not in self._properties:
            self._properties[name] = property_of(self.terms["props"], name)
        return self._properties[name]

    def joined(self, ask: Callable[[Steps], NDArray[np.bool_]]) -> NDArray[np.bool_]:
        """A mask over the index from a mask of each part's journeys."""
        return np.concatenate([np.empty(0, bool), *self.each(ask)])

    def fates(self) -> dict[str, int]:
        """How many rows met each of `FATES`."""
        parts = self.each(lambda steps: np.bincount(steps.fate, minlength=len(FATES)))
        counts = np.sum([np.zeros(len(FATES), "int64"), *parts], axis=0)
        return dict(zip(FATES, counts.tolist(), strict=True))


class _Left(NamedTuple):
    """What is left of a part whose users move, what that tells of ends, and the rows that are gone;
    `made` where it was there when the study was made."""

    made: bool
    log: Log
    steps: Steps
    ends: Ends
    gone: Log


def _shared(log: Log) -> list[Log]:
    """The rows of a part as threads replay them: by two, if they are many."""
    user = log.columns["user"]
    many = len(log) >= 2 * LARGE_ENOUGH
    edges = [0, int(np.searchsorted(user, user[len(log) // 2])) if many else 0, len(log)]
    columns = [{name: own[a:b] for name, own in log.columns.items()} for a, b in pairwise(edges)]
    return [Log(own, log.terms) for own in columns if len(own["user"])]


_INDEXED = {
    "start": "int64",
    "end": "int64",
    "steps": "int32",
    "deepest": "int32",
    "user": "int32",
    "session": "int32",
}


def _indexed(steps: Steps) -> list[NDArray[Any]]:
    """What the index has of a part's journeys."""
    return [getattr(steps.journeys, name).astype(dtype) for name, dtype in _INDEXED.items()]


_here: Recent[Study] = Recent(2)
"""The studies that this process, as a worker, was asked of most recently."""


def _elsewhere(parts: ShelvedParts, read_at: int, version: str) -> Study:
    return _here.of(parts.name, lambda: Study.of(parts, read_at, version))
