"""Large logs for the bench: one simulated log, over and over with other users."""

from __future__ import annotations

import tempfile
from collections.abc import Iterable
from pathlib import Path

import numpy as np

from mossy_trail.core.model.log import Log
from mossy_trail.demo.simulator import simulate, write
from mossy_trail.intake.reader import read_files

SIMULATED = 200_000


def simulated_csv(folder: Path) -> Path:
    return write(simulate(SIMULATED, 11), folder)[0]


def grown_csv(csv: Path, times: Iterable[int], name: str = "grown.csv") -> Path:
    """The same file once for each of these numbers, each with other users and sessions."""
    head, _, rows = csv.read_bytes().partition(b"\n")
    grown = csv.with_name(name)
    with grown.open("wb") as file:
        file.write(head + b"\n")
        for i in times:
            file.write(rows.replace(b",u-11-", f",u-{i}-".encode()))
    return grown


def grown_log(times: int) -> Log:
    """A log of `times` × 200,000 rows in memory."""
    with tempfile.TemporaryDirectory() as folder:
        log = read_files([simulated_csv(Path(folder))]).log
    columns = {name: np.tile(column, times) for name, column in log.columns.items()}
    terms = dict(log.terms)
    copy = np.repeat(np.arange(times, dtype="int32"), len(log))
    for name in ("user", "session"):
        count = len(log.terms[name])
        columns[name] = columns[name] + copy * count
        terms[name] = [f"{term}-{i}" for i in range(times) for term in log.terms[name]]
    return Log(columns, terms)
