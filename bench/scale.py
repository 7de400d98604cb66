"""How work grows with rows and with workers: `./mossy bench scale [MILLION…]`, 1 and 10 by default.

Each cluster is a scheduler and so many workers of one thread, all on this machine.
"""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import Any

import psutil

from bench.data import grown_csv, simulated_csv
from mossy_trail.core.model.log import parts_needed, split
from mossy_trail.core.model.scope import Scope
from mossy_trail.demo.load import MAP
from mossy_trail.engine import funnel
from mossy_trail.engine.compare import Sides, compare
from mossy_trail.engine.measures import measured
from mossy_trail.engine.registry import MEASURES
from mossy_trail.engine.shelf import Shelf
from mossy_trail.engine.study import Study
from mossy_trail.engine.workers import client_of, executor_of, threads
from mossy_trail.ingest import spread
from mossy_trail.intake.app_map_file import map_of, parse_map
from mossy_trail.intake.reader import LogFile, read_files
from mossy_trail.store.folder import Folder, LogParts, write_parts

FILE = 5
"""How many times the simulated rows each file has: a million together."""
APP_MAP = map_of(parse_map(MAP.read_text()))
READ_AT = 1_790_000_000_000_000


def files_of(million: int, folder: Path) -> list[Path]:
    """So many files of a million rows, each with users of its own."""
    made = simulated_csv(folder)
    return [
        grown_csv(made, range(number * FILE, (number + 1) * FILE), f"{number:03}.csv")
        for number in range(million)
    ]


@contextmanager
def cluster(workers: int, folder: Path) -> Iterator[Any]:
    place = folder / "scheduler.json"
    dask = str(Path(sys.executable).with_name("dask"))
    running: list[subprocess.Popen[bytes]] = []

    def start(*what: str) -> None:
        said = subprocess.DEVNULL
        running.append(subprocess.Popen([dask, *what, "--no-dashboard"], stdout=said, stderr=said))

    start("scheduler", "--host", "127.0.0.1", "--port", "0", "--scheduler-file", str(place))
    while not place.exists():
        time.sleep(0.1)
    for _ in range(workers):
        one = ("--nworkers", "1", "--nthreads", "1", "--local-directory", str(folder))
        start("worker", "--scheduler-file", str(place), *one)
    client = client_of(json.loads(place.read_text())["address"])
    try:
        client.wait_for_workers(workers)
        yield client
    finally:
        client.close()
        for process in running:
            process.kill()
            process.wait()


def moved() -> float:
    """Gigabytes that processes of this machine have sent each other so far."""
    return float(psutil.net_io_counters(pernic=True)["lo"].bytes_sent) / 1e9


def asked(study: Study) -> dict[str, Any]:
    known = {
        "spec": json.dumps(funnel.onboarding(APP_MAP)),
        "pattern": "SignIn .. [event=sign_in:failed] . within 9min",
    }
    found: dict[str, Any] = {}
    for name, measure in MEASURES.items():
        found[name] = measured(study, Scope(), name, measure.params_of(known)).as_dict()
    return found


def timed(work: Callable[[], Any]) -> tuple[float, Any]:
    begun = time.perf_counter()
    answer = work()
    return time.perf_counter() - begun, answer


def line(million: int, where: str, times: list[float], sent: float | None = None) -> None:
    told = " | ".join(f"{one:.1f}" for one in times)
    print(f"| {million} | {where} | {told} | {'' if sent is None else f'{sent:.2f}'} |", flush=True)


def on_one_machine(million: int, files: list[Path], folder: Path) -> dict[str, Any]:
    read, log = timed(lambda: read_files(files).log)
    parts = split(log, parts_needed(len(log)))
    write_parts(Folder(folder / "log"), parts, log.terms)
    told = replayed(million, "threads, in memory", read, lambda: Study(parts, APP_MAP, READ_AT))
    shelf = Shelf(Folder(folder / "replay"), threads, room=1 << 30)
    written = LogParts(Folder(folder / "log"))
    again = replayed(
        million,
        "threads, 1 GB of room",
        read,
        lambda: Study(written, APP_MAP, READ_AT, shelf=shelf),
    )
    assert told == again
    return told


def replayed(
    million: int, where: str, read: float, make: Callable[[], Study], sent: float | None = None
) -> dict[str, Any]:
    """The figures of a study; tells how long it took to make, and to ask."""
    held, study = timed(make)
    ask, figures = timed(lambda: asked(study))
    both, _ = timed(lambda: compare(study, Scope(), VERSIONS))
    line(million, where, [read, held, ask, both], sent)
    return figures


VERSIONS = Sides("3.1", "3.2", "version")


def on_a_cluster(million: int, workers: int, files: list[Path], folder: Path, told: Any) -> None:
    named = [LogFile(path, path.name) for path in files]
    with cluster(workers, folder) as client:
        before = moved()
        read, found = timed(lambda: spread.read(client, named, Folder(folder / "log")))
        sent = moved() - before
        shelf = Shelf(Folder(folder / "replay"), executor_of(client))

        def make() -> Study:
            return Study(found.parts, APP_MAP, READ_AT, shelf=shelf)

        assert replayed(million, f"cluster, {workers} workers", read, make, sent) == told


def main(millions: list[int]) -> None:
    print("| million rows | by | read, s | replay, s | all measures, s | compare, s | sent, GB |")
    print("|---:|---|---:|---:|---:|---:|---:|")
    for million in millions or [1, 10]:
        with ExitStack() as open_:

            def fresh(open_: ExitStack = open_) -> Path:
                return Path(open_.enter_context(tempfile.TemporaryDirectory()))

            files = files_of(million, fresh())
            told = on_one_machine(million, files, fresh())
            for workers in (1, 2):
                on_a_cluster(million, workers, files, fresh(), told)
