"""Timing the same work, done by us and by others."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import TypeVar

RUNS = 3
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
