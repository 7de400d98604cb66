"""Logs that are too large for memory or for one machine: the same figures, to the last digit."""

from __future__ import annotations

import csv
import json
import os
import signal
import subprocess
import sys
from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import asdict
from pathlib import Path
from threading import Thread
from typing import Any

import numpy as np
import pytest
from typer.testing import CliRunner

from mossy_trail import cli
from mossy_trail.core.model.app_map import AppMap
from mossy_trail.core.model.installs import Installs
from mossy_trail.core.model.log import DTYPES, Log, parts_needed, split
from mossy_trail.core.model.people import people
from mossy_trail.core.model.scope import Scope
from mossy_trail.core.model.steps import Steps
from mossy_trail.demo.load import MAP
from mossy_trail.demo.simulator import simulate, write
from mossy_trail.engine import funnel, health, trend
from mossy_trail.engine.compare import Sides, compare
from mossy_trail.engine.findings import findings
from mossy_trail.engine.measures import measured
from mossy_trail.engine.registry import MEASURES
from mossy_trail.engine.shelf import Shelf
from mossy_trail.engine.study import Study
from mossy_trail.engine.workers import UnusableCluster, client_of, executor_of, threads
from mossy_trail.ingest import spread
from mossy_trail.intake.reader import LogFile, read_files
from mossy_trail.store.folder import Folder, LogParts, write_parts
from tests.conftest import Server, until

FILES = 5
READ_AT = 1_790_000_000_000_000


@pytest.fixture(scope="module")
def files(tmp_path_factory: pytest.TempPathFactory) -> list[Path]:
    """One log in five files, in each of which are rows of every user, some of them unusable."""
    folder = tmp_path_factory.mktemp("scale")
    whole, *_ = write(simulate(12_000, 5), folder / "whole")
    with whole.open() as file:
        head, *rows = list(csv.reader(file))
    paths = [folder / f"{number}.csv" for number in range(FILES)]
    for number, path in enumerate(paths):
        with path.open("w", newline="") as file:
            own = rows[number::FILES]
            csv.writer(file).writerows([head, *own, ["no time", *own[0][1:]]])
    return paths


@pytest.fixture(scope="module")
def memory(files: list[Path], app_map: AppMap) -> Study:
    return Study(parts_of(read_files(files).log), app_map, READ_AT)


def parts_of(log: Log) -> list[Log]:
    return split(people(log), parts_needed(len(log)))


def named(files: list[Path]) -> list[LogFile]:
    return [LogFile(path, path.name) for path in files]


def told(study: Study) -> dict[str, Any]:
    """Every figure that there is, by versions too."""
    known = {
        "goal": "Receipt",
        "spec": json.dumps(funnel.onboarding(study.app_map)),
        "pattern": "SignIn .. [event=sign_in:failed] . within 9min",
    }
    found: dict[str, Any] = {}
    for name, measure in MEASURES.items():
        params = measure.params_of(known)
        found[name] = measured(study, Scope(), name, params, by="version").as_dict()
    users = Scope(unit="users")
    found["compare"] = asdict(compare(study, users, Sides("3.1", "3.2", "version")))
    found["findings"] = asdict(findings(study, users))
    found["health"] = health.measure(study)
    visits = json.dumps(["visit", study.app_map.tabs[0].name])
    found["trend"] = asdict(trend.trend(study, Scope(), "tabs", visits, over="day"))
    return found


@pytest.mark.parametrize("url", ["{}", "file://{}"])
def test_a_log_that_is_not_in_memory_has_the_same_figures(
    memory: Study, files: list[Path], app_map: AppMap, tmp_path: Path, url: str
) -> None:
    """Of files that are mapped, and of what only fsspec reaches; there is room for no part."""
    log = people(read_files(files).log)
    folder = Folder(url.format(tmp_path))
    write_parts(folder, split(log, 7), log.terms)
    parts = LogParts(folder)
    shelf = Shelf(folder.under("replay"), threads, room=0)
    shelved = Study(parts, app_map, READ_AT, shelf=shelf)
    assert shelved.shelved
    assert told(shelved) == told(memory)
    shelf.folder.remove()
    assert not (tmp_path / "replay").exists()


Start = Callable[[], subprocess.Popen[bytes]]


@pytest.fixture(scope="module")
def workers(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[str, Start]]:
    """The address of a scheduler, and what starts one more worker; each is a process."""
    folder = tmp_path_factory.mktemp("cluster")
    place = folder / "scheduler.json"
    running: list[subprocess.Popen[bytes]] = []

    def start(*what: str) -> subprocess.Popen[bytes]:
        dask = Path(sys.executable).with_name("dask")
        with (folder / f"said-{len(running)}.txt").open("w") as said:
            running.append(
                subprocess.Popen([dask, *what, "--no-dashboard"], stdout=said, stderr=said)
            )
        return running[-1]

    start("scheduler", "--host", "127.0.0.1", "--port", "0", "--scheduler-file", str(place))

    def told() -> str | None:
        with suppress(FileNotFoundError, json.JSONDecodeError):  # not there yet, or half written
            return str(json.loads(place.read_text())["address"])
        return None

    address = until(told)
    one = ("--nworkers", "1", "--nthreads", "1", "--no-nanny", "--local-directory", str(folder))
    yield address, lambda: start("worker", address, *one)
    for process in running:
        process.kill()
        process.wait()


def killed_when(folder: Path, pattern: str, worker: subprocess.Popen[bytes]) -> Thread:
    """Kill a worker as soon as such a file is there."""

    def wait_and_kill() -> None:
        until(lambda: any(folder.glob(pattern)))
        worker.send_signal(signal.SIGKILL)

    thread = Thread(target=wait_and_kill)
    thread.start()
    return thread


def test_a_cluster_reads_replays_and_measures_the_same_though_workers_are_killed(
    workers: tuple[str, Start],
    memory: Study,
    files: list[Path],
    app_map: AppMap,
    tmp_path: Path,
) -> None:
    address, start = workers
    first, second, *_ = [start() for _ in range(4)]
    client = client_of(address)
    client.wait_for_workers(4)
    killing = killed_when(tmp_path, "piece-000003.arrow", first)
    found = spread.read(client, named(files), Folder(tmp_path))
    killing.join()
    whole = read_files(files)
    assert found.rows_read == whole.rows_read
    assert found.set_aside == whole.set_aside
    assert found.parts.terms == whole.log.terms
    mine = [part for part in parts_of(whole.log) if len(part)]
    for own, other in zip(found.parts, mine, strict=True):
        for name in DTYPES:
            assert np.array_equal(own.columns[name], other.columns[name]), name

    killing = killed_when(tmp_path / "replay", "rows-0001.arrow", second)
    shelf = Shelf(Folder(tmp_path / "replay"), executor_of(client))
    study = Study(found.parts, app_map, READ_AT, shelf=shelf)
    killing.join()
    assert told(study) == told(memory)

    died = tmp_path / "died"

    def dies_once(steps: Steps) -> int:
        if not died.exists():
            died.touch()
            os.kill(os.getpid(), signal.SIGKILL)
        return len(steps.log)

    assert study.each(dies_once) == [len(part) for part in mine]
    assert died.exists()
    client.close()


@pytest.mark.parametrize("by", ["memory", "cluster"])
def test_files_that_arrive_later_are_as_if_all_had_been_there(
    request: pytest.FixtureRequest,
    memory: Study,
    files: list[Path],
    app_map: AppMap,
    tmp_path: Path,
    by: str,
) -> None:
    """Of all users each time."""
    before = read_files(files[:3]).log
    folder, shelf = Folder(tmp_path / "log"), None
    if by == "cluster":
        address, start = request.getfixturevalue("workers")
        start()
        shelf = Shelf(Folder(tmp_path / "replay"), executor_of(client_of(address)))
    write_parts(folder, split(before, 5), before.terms)
    parts, installs = LogParts(folder), Installs.of(before)
    study: Study | None = Study(parts, app_map, READ_AT, shelf=shelf, installs=installs)
    for path in files[3:]:
        assert study
        assert told(study)["tabs"] != told(memory)["tabs"]
        study = study.grown(read_files([path]).log, READ_AT, path.name)
    assert study
    assert told(study) == told(memory)


def test_persons_on_several_installs_meet_in_one_part_of_a_cluster(
    workers: tuple[str, Start], tmp_path: Path
) -> None:
    address, start = workers
    start()
    rows = [
        (f"2026-05-04T10:{minute:02}:00Z", f"phone {install}", account, f"Screen {minute % 7}")
        for install in range(40)
        for minute, account in enumerate(["", f"ann {install // 3}", "", f"bo {install // 2}", ""])
    ]
    paths = [tmp_path / "a.csv", tmp_path / "b.csv"]
    for number, path in enumerate(paths):
        with path.open("w", newline="") as file:
            csv.writer(file).writerows([["time", "user", "account", "screen"], *rows[number::2]])
    whole = people(read_files(paths).log)
    found = spread.read(client_of(address), named(paths), Folder(tmp_path / "parts"))
    assert found.parts.terms["user"] == whole.terms["user"]
    mine = [part for part in split(whole, parts_needed(len(whole))) if len(part)]
    for own, other in zip(found.parts, mine, strict=True):
        for name in DTYPES:
            assert np.array_equal(own.columns[name], other.columns[name]), name


def test_the_command_line_works_by_a_cluster(
    workers: tuple[str, Start], files: list[Path], tmp_path: Path
) -> None:
    address, start = workers
    start()
    folder = str(files[0].parent)
    given = ["--map", str(MAP)]
    at = ["--cluster", address, "--shared", str(tmp_path)]
    asked = ["compare", folder, "--one", "3.1", "--by", "version", "--json", *given]
    alone, together = (CliRunner().invoke(cli.cli, [*asked, *more]) for more in ([], at))
    assert alone.exit_code == together.exit_code == 0, together.output
    assert json.loads(together.stdout) == json.loads(alone.stdout)
    steps = [tmp_path / "alone.csv", tmp_path / "together.csv"]
    for path, more in zip(steps, ([], at), strict=True):
        assert CliRunner().invoke(cli.cli, ["replay", folder, "--out", str(path), *given, *more])
    assert steps[0].read_bytes() == steps[1].read_bytes()
    nobody = CliRunner().invoke(
        cli.cli, ["measure", "tabs", folder, "--cluster", "tcp://127.0.0.1:9"]
    )
    assert nobody.exit_code == 1
    assert "There is no cluster at tcp://127.0.0.1:9" in nobody.stderr
    with pytest.raises(UnusableCluster, match="no cluster"):
        client_of("nonsense")


def test_a_server_asks_a_cluster(
    workers: tuple[str, Start],
    files: list[Path],
    memory: Study,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    address, start = workers
    start()
    monkeypatch.setenv("MOSSY_CLUSTER", address)
    server = Server(tmp_path / "data")
    server.start()
    try:
        app = server.new_app("By a cluster")
        assert server.follow(server.upload(app, *files)["id"])["state"] == "done"
        for name in ("sign-in", "loops", "drop-offs"):
            found = server.get(f"/api/apps/{app}/measures/{name}", by="version")
            own = measured(memory, Scope(), name, by="version").as_dict()
            assert found == json.loads(json.dumps(own)), name
        assert list((server.folder / "replays").rglob("*.arrow")), "replayed by who reads files"
    finally:
        server.remove()
