"""Timing the same work, done by us and by others."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any, TypeVar

RUNS = 3
Rows = list[tuple[Any, ...]]
Answer = TypeVar("Answer")


def timed(work: Callable[[], Answer]) -> tuple[float, Answer]:
    """The least time of a few runs, and the answer."""
    best, answer = float("inf"), None
    for _ in range(RUNS):
        begun = time.perf_counter()
        answer = work()
        best = min(best, time.perf_counter() - begun)
    return best, answer  # type: ignore[return-value]


def line(what: str, ours: float, others: dict[str, float]) -> None:
    beside = "   ".join(f"{name} {t:.3f} s (× {t / ours:.1f})" for name, t in others.items())
    print(f"{what:32} {ours:7.3f} s   {beside}", flush=True)


def compare(what: str, *asks: Callable[[], Rows]) -> None:
    """Time the same question asked of us, DuckDB and Polars; their answers must be ours."""
    found = [timed(ask) for ask in asks]
    ours, duck, polars = (sorted(answer) for _, answer in found)
    assert ours == duck == polars, (what, ours[:3], duck[:3], polars[:3])
    line(what, found[0][0], {"DuckDB": found[1][0], "Polars": found[2][0]})
