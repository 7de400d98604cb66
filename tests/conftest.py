"""What tests share: a simulated log with its truth, a throw-away cluster, a running server."""

from __future__ import annotations

import csv
import json
import os
import re
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import httpx
import pytest
from sqlalchemy import Engine, text

from mossy_trail.core.model.app_map import AppMap
from mossy_trail.core.model.log import Log, split
from mossy_trail.demo.load import MAP
from mossy_trail.demo.simulator import simulate, write
from mossy_trail.engine.study import Study
from mossy_trail.intake.app_map_file import map_of, parse_map
from mossy_trail.intake.reader import read_files
from mossy_trail.store.cluster import Cluster, reachable, temporary_cluster
from mossy_trail.store.database import connect, migrate
from tests import campaign as campaign  # which sets how examples are drawn

ROWS, SEED = 100_000, 7


@dataclass(frozen=True)
class Demo:
    """Files of one simulated log, and what is true of it."""

    csv: Path
    json_lines: Path
    truth: list[dict[str, str]]
    figures: dict[str, Any]


@pytest.fixture(scope="session")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Demo:
    folder = tmp_path_factory.mktemp("demo")
    csv_file, json_lines, truth, figures, _ = write(simulate(ROWS, SEED), folder)
    with truth.open() as file:
        steps = list(csv.DictReader(file))
    return Demo(csv_file, json_lines, steps, json.loads(figures.read_text()))


@pytest.fixture(scope="session")
def app_map() -> AppMap:
    return map_of(parse_map(MAP.read_text()))


@pytest.fixture(scope="session")
def demo_log(demo: Demo) -> Log:
    return read_files([demo.csv]).log


@pytest.fixture(scope="session")
def study(demo_log: Log, app_map: AppMap) -> Study:
    return Study(split(demo_log, 3), app_map)


@pytest.fixture(scope="session")
def cluster() -> Iterator[Cluster]:
    cluster = temporary_cluster()
    cluster.start()
    yield cluster
    cluster.stop()
    shutil.rmtree(cluster.folder)


@pytest.fixture
def engine(cluster: Cluster) -> Iterator[Engine]:
    """A database of the test's own, migrated and empty."""
    whole = connect(cluster.url).execution_options(isolation_level="AUTOCOMMIT")
    with whole.connect() as connection:
        connection.execute(text("DROP DATABASE IF EXISTS test WITH (FORCE)"))
        connection.execute(text("CREATE DATABASE test"))
    whole.dispose()
    engine = connect(cluster.url.rsplit("/", 1)[0] + "/test")
    migrate(engine)
    yield engine
    engine.dispose()


def until(ask: Callable[[], Any]) -> Any:
    """The first answer that is not empty, within two minutes."""
    for _ in range(2400):
        if found := ask():
            return found
        time.sleep(0.05)
    pytest.fail("it never came to be")


ODD_NAMES = ("<script>alert(1)</script>", "🚢 שלום", "x" * 200)
"""Names that a log may hold, and a page must show as they are."""
MOSSY = (sys.executable, "-m", "mossy_trail.cli")


class Server:
    """The real start command, in a process of its own."""

    command: tuple[str, ...] = ("up", "--port", "0", "--demo-rows", "5000")

    def __init__(self, data: Path) -> None:
        data.mkdir(exist_ok=True)
        self.folder = data
        self.url = self.said = ""
        self.process: subprocess.Popen[bytes] | None = None

    def start(self) -> None:
        said = self.folder / "said.txt"
        with said.open("w") as stderr:
            self.process = subprocess.Popen(
                [*MOSSY, *self.command],
                env={**os.environ, "MOSSY_DATA": str(self.folder), "NO_COLOR": "1"},
                stderr=stderr,
            )
        while not (found := re.search(r"is at (http://127\.0\.0\.1:\d+)", said.read_text())):
            if self.process.poll() is not None:
                pytest.fail(f"the server did not start:\n{said.read_text()}")
            time.sleep(0.05)
        self.said, self.url = said.read_text(), found[1]
        transport = httpx.HTTPTransport(retries=8)
        headers = {"Origin": self.url}
        self.client = httpx.Client(
            base_url=self.url, timeout=60, transport=transport, headers=headers
        )
        self.client.get("/api/apps")  # its address is said before it listens

    def stop(self, how: signal.Signals = signal.SIGINT) -> None:
        if self.process:
            self.client.close()
            self.process.send_signal(how)
            self.process.wait(60)
            self.process = None

    def remove(self) -> None:
        """Stop it, and take its cluster away too, where it does not lie in the test's folder."""
        self.stop()
        shutil.rmtree(reachable(self.folder / "postgres"))

    def get(self, path: str, **params: Any) -> Any:
        answer = self.client.get(path, params=params or None)
        assert answer.status_code == 200, answer.text
        return answer.json()

    def upload(self, app: str, *paths: Path, name: str = "") -> dict[str, Any]:
        """Bring these files in as one log; the job as it is when the last has come."""
        files = [{"name": name or path.name, "bytes": path.stat().st_size} for path in paths]
        job = self.client.post(f"/api/apps/{app}/imports", json={"files": files}).json()
        for number, path in enumerate(paths):
            with path.open("rb") as body:
                size = {"Content-Length": str(path.stat().st_size)}
                url = f"/api/jobs/{job['id']}/files/{number}"
                job = self.client.put(url, content=body, headers=size).json()
        return job

    def follow(self, job: int, until: str = "") -> dict[str, Any]:
        """The job's last state, or the first one called `until`."""
        state: dict[str, Any] = {}
        with self.client.stream("GET", f"/api/jobs/{job}/events") as events:
            for line in events.iter_lines():
                if line.startswith("data:"):
                    state = json.loads(line[5:])
                    if state["state"] == until:
                        break
        return state

    def new_app(self, name: str, with_map: bool = True) -> str:
        key = self.client.post("/api/apps", json={"name": name}).json()["key"]
        if with_map:
            headers = {"Content-Type": "text/plain"}
            answer = self.client.put(
                f"/api/apps/{key}/map", content=MAP.read_bytes(), headers=headers
            )
            assert answer.status_code == 200, answer.text
        return str(key)


class TeamServer(Server):
    """The same for a team, with an account that manages everything."""

    command = ("serve", "--port", "0", "--manager", "ada@example.org")
    password = "three plain words"

    def start(self) -> None:
        super().start()
        if found := re.search(r"/invited#(\S+)", self.said):
            self.accept(self.client, found[1], "Ada")

    def sign_in(self, client: httpx.Client, email: str = "ada@example.org") -> None:
        body = {"email": email, "password": self.password}
        assert client.post("/api/sign-in", json=body).status_code == 204

    def accept(self, client: httpx.Client, secret: str, name: str) -> None:
        body = {"secret": secret, "name": name, "password": self.password}
        answer = client.post("/api/invitations/accept", json=body)
        assert answer.status_code == 204, answer.text


@pytest.fixture(scope="session")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    server = Server(tmp_path_factory.mktemp("data"))
    server.start()
    yield server
    server.remove()
