"""Timing the same work, done by us and by others."""

from __future__ import annotations

import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from operator import attrgetter
from typing import Any, TypeVar
from unittest.mock import patch

from mossy_trail.core.model.steps import Steps
from mossy_trail.engine.study import Study

RUNS = 3
Rows = list[tuple[Any, ...]]
Answer = TypeVar("Answer")


def timed(work: Callable[[], Answer]) -> tuple[float, Answer]:
    """The least time of a few runs, and the answer."""
    return in_turns(work)[0]


def in_turns(*works: Callable[[], Answer]) -> list[tuple[float, Answer]]:
    """The same of several, run in turns: a minute in which the machine is slow hits all alike."""
    best: list[tuple[float, Any]] = [(float("inf"), None)] * len(works)
    for _ in range(RUNS):
        for place, work in enumerate(works):
            took, answer = _once(work)
            best[place] = min(best[place][0], took), answer
    return best


def anew(study: Study, ask: Callable[[], Answer]) -> Callable[[], Answer]:
    """The question with nothing kept of who asked before, which would be told without work."""

    def asked() -> Answer:
        study.labels.clear()
        return ask()

    return asked


def _once(work: Callable[[], Answer]) -> tuple[float, Answer]:
    begun = time.perf_counter()
    answer = work()
    return time.perf_counter() - begun, answer


COPYING = "copying what is read"
"""What nothing that reads these columns can be faster than."""
TABLE: list[tuple[str, float, dict[str, float]]] = []
"""All that was timed: what, our time, and those of others."""


def line(what: str, ours: float, others: dict[str, float] | None = None) -> None:
    """Tell a time, in seconds, and keep it for the table."""
    TABLE.append((what, ours, others or {}))
    beside = "   ".join(f"{name} {t:.3f} s (× {t / ours:.1f})" for name, t in TABLE[-1][2].items())
    print(f"{what:40} {ours:7.3f} s   {beside}", flush=True)


def table() -> str:
    """All that was timed, in Markdown."""
    names = list(dict.fromkeys(name for _, _, others in TABLE for name in others))
    rows = [["what", "ours, s", *(f"{name}, s" for name in names), "× the best"]]
    for what, ours, others in TABLE:
        peers = [time for name, time in others.items() if name not in (COPYING, ALONE)]
        best = f"× {min(peers) / ours:.1f}" if peers else ""
        times = [f"{others[name]:.3f}" if name in others else "" for name in names]
        rows.append([what, f"{ours:.3f}", *times, best])
    rows.insert(1, ["---", *["---:"] * (len(rows[0]) - 1)])
    return "\n".join(f"| {' | '.join(row)} |" for row in rows)


ALONE = "ours, one thread"


def alone(ask: Callable[[], Any]) -> float:
    """The time of a question to us where parts are asked one after the other."""
    with ThreadPoolExecutor(1) as one, patch("mossy_trail.engine.study.threads", one):
        return timed(ask)[0]


def copying(study: Study, reads: str) -> float:
    """The time to copy these columns of all parts, with as many threads as questions have."""

    def copied(part: Steps) -> None:
        for name in reads.split():
            _, rows, of_rows = name.partition("rows.")
            (part.log.columns[of_rows] if rows else attrgetter(name)(part)).copy()

    return timed(lambda: study.each(copied))[0]


def compare(what: str, study: Study, reads: str, *asks: Callable[[], Rows]) -> None:
    """Time the same question asked of us, DuckDB and Polars; their answers must be ours.

    `reads` are the columns of parts that our answer reads from one end to the other.
    """
    ours, *theirs = asks
    found = in_turns(anew(study, ours), *theirs)
    own, duck, polars = (sorted(answer) for _, answer in found)
    assert own == duck == polars, (what, own[:3], duck[:3], polars[:3])
    beside = {"DuckDB": found[1][0], "Polars": found[2][0], ALONE: alone(anew(study, ours))}
    line(what, found[0][0], beside | {COPYING: copying(study, reads)})
