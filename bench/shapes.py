"""Logs of unkind shapes: the replay's time for a row must not grow with their size."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.model.app_map import AppMap
from mossy_trail.core.model.log import DICTIONARIES, DTYPES, EVENT, NONE, SECOND, Log
from mossy_trail.core.replay.replay import replay

SMALL, LARGE = 250_000, 1_000_000
PUSH, POP, POP_TO, VIEW = (EVENT[word] for word in ("push", "pop", "pop_to", "screen_view"))


def shaped(event: NDArray[np.int64], screen: NDArray[np.int64], sessions: int = 1) -> Log:
    """One user's rows, a second apart: their events, screens, and as many sessions."""
    n = len(event)
    columns = {name: np.full(n, NONE) for name in DTYPES}
    columns |= {name: np.zeros(n, "int64") for name in ("user", "file", "order")}
    columns |= {"event": event, "screen": screen, "line": np.arange(n)}
    columns |= {"time": np.arange(n) * SECOND, "session": np.arange(n) * sessions // n}
    terms: dict[str, list[str]] = {name: [] for name in DICTIONARIES}
    terms |= {"user": ["u"], "screen": [f"S{i}" for i in range(int(screen.max()) + 1)]}
    terms |= {"session": [f"s{i}" for i in range(sessions)], "file": ["log"]}
    return Log({name: columns[name].astype(dtype) for name, dtype in DTYPES.items()}, terms)


def _half(n: int, first: int, then: int) -> NDArray[np.int64]:
    return np.repeat([first, then], n // 2)


SHAPES: dict[str, Callable[[int], Log]] = {
    "one session, in and out": lambda n: shaped(
        np.tile([PUSH, PUSH, POP, POP], n // 4), np.tile([1, 2, 1, 0], n // 4)
    ),
    "deep down, then up": lambda n: shaped(
        _half(n, PUSH, POP), np.append(np.arange(n // 2), np.arange(n // 2)[::-1]) % 10
    ),
    "deep down, then to what is not there": lambda n: shaped(
        _half(n, PUSH, POP_TO), np.append(np.arange(n // 2) % 9, np.full(n // 2, 9))
    ),
    "10,000 screens": lambda n: shaped(np.full(n, PUSH), np.arange(n) % 10_000),
    "10,000 screens, views only": lambda n: shaped(np.full(n, VIEW), np.arange(n) * 7919 % 10_000),
    "a user's many sessions": lambda n: shaped(np.full(n, PUSH), np.arange(n) % 10, n // 5),
}


def _at_once(log: Log) -> Log:
    """All rows at one moment."""
    return Log({**log.columns, "time": np.zeros(len(log), "i8")}, log.terms)


SHAPES["one moment"] = lambda n: _at_once(shaped(np.full(n, PUSH), np.arange(n) % 2))
SHAPES["one moment, views only"] = lambda n: _at_once(shaped(np.full(n, VIEW), np.arange(n) % 2))


def growth() -> Iterator[tuple[str, float, float]]:
    """Per shape, nanoseconds for a row of the small and of the large log."""
    app_map = AppMap.from_dict({})
    for name, make in SHAPES.items():
        times = []
        for size in (SMALL, LARGE):
            log = make(size)
            begun = time.perf_counter()
            replay(log, app_map)
            times.append((time.perf_counter() - begun) / size * 1e9)
        yield name, times[0], times[1]
