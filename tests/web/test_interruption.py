"""Server and database killed at random moments: what was acknowledged is there, whole and once."""

from __future__ import annotations

import os
import signal
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from threading import Event, Thread
from typing import Any

import httpx
import pytest

from mossy_trail.store.cluster import reachable
from tests.campaign import LONG
from tests.conftest import Demo, Server, until

KILLS = 60 if LONG else 4


class Phone:
    """Sends events one after the other, each again and again until it is acknowledged."""

    def __init__(self, server: Server, app: str) -> None:
        self._server, self._app = server, app
        self._key = server.client.post(f"/api/apps/{app}/ingest-key").json()["key"]
        self._ended = Event()
        self._thread = Thread(target=self._run)
        self.acknowledged: list[str] = []
        self.tries = 0

    def __enter__(self) -> Phone:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._ended.set()
        self._thread.join()

    def goes_on(self) -> None:
        """Wait until more is acknowledged than now."""
        now = len(self.acknowledged)
        until(lambda: len(self.acknowledged) > now)

    def _run(self) -> None:
        number = 0
        while not self._ended.is_set():
            names = [f"Screen {i}" for i in range(number, number + 3)]
            if self._send([self._event(name, number + i) for i, name in enumerate(names)]):
                self.acknowledged += names
                number += 3

    def _event(self, name: str, number: int) -> dict[str, Any]:
        return {
            "specversion": "1.0",
            "id": name,
            "source": "phone",
            "type": "screen_view",
            "subject": "u",
            "time": f"2026-05-04T10:{number // 60 % 60:02}:{number % 60:02}Z",
            "data": {"screen": name},
        }

    def _send(self, events: list[dict[str, Any]]) -> bool:
        self.tries += 1
        headers = {
            "Authorization": f"Bearer {self._key}",
            "Content-Type": "application/cloudevents-batch+json",
        }
        url = f"{self._server.url}/api/apps/{self._app}/events"
        try:
            answer = httpx.post(url, json=events, headers=headers, timeout=20)
        except httpx.HTTPError:
            answer = None
        if answer is None or answer.status_code != 200:
            self._ended.wait(0.1)
            return False
        return True


def kill_server(server: Server) -> None:
    server.stop(signal.SIGKILL)
    server.start()


def kill_database(server: Server) -> None:
    """The postmaster alone; the start command starts it again."""
    pid = reachable(server.folder / "postgres") / "data" / "postmaster.pid"
    os.kill(int(pid.read_text().split()[0]), signal.SIGKILL)


@pytest.mark.parametrize("kill", [kill_server, kill_database])
def test_what_was_acknowledged_is_there_whole_and_once(
    tmp_path: Path, demo: Demo, kill: Callable[[Server], None]
) -> None:
    rows = demo.csv.read_bytes().count(b"\n") - 1
    server = Server(tmp_path / "data")
    server.start()
    landed = 0
    try:
        app, live = server.new_app("Killed"), server.new_app("Live")
        begun = time.monotonic()
        first = server.follow(server.upload(app, demo.csv)["id"])
        assert first["state"] == "done"
        usual = time.monotonic() - begun
        server.client.delete(f"/api/logs/{first['log_id']}")
        with Phone(server, live) as phone:
            for when in range(KILLS):
                phone.goes_on()
                job = server.upload(app, demo.csv)
                time.sleep(usual * when / KILLS)
                kill(server)
                landed += outcome(server, app, job["id"], rows)
        assert len(phone.acknowledged) > KILLS
        assert screens_of(server, live, len(phone.acknowledged)) >= set(phone.acknowledged)
        again = server.upload(app, demo.csv)
        assert server.follow(again["id"])["state"] == "done"
    finally:
        server.remove()
    assert landed < KILLS, "the first ones are killed before anything can have landed"


def test_who_sends_does_not_see_that_the_process_which_takes_events_in_was_killed(
    tmp_path: Path,
) -> None:
    server = Server(tmp_path / "data")
    server.start()
    try:
        app = server.new_app("Live")
        with Phone(server, app) as phone:
            for kills in range(4):
                phone.goes_on()
                if kills:
                    os.kill(receiver_of(server), signal.SIGKILL)
        assert len(phone.acknowledged) == 3 * phone.tries
        assert screens_of(server, app, len(phone.acknowledged)) == set(phone.acknowledged)
        last = receiver_of(server)
        kill_server(server)
        until(lambda: not runs(last))
    finally:
        server.remove()


def receiver_of(server: Server) -> int:
    """The process of it that takes events in."""
    assert server.process
    pids = [int(folder.name) for folder in Path("/proc").glob("[0-9]*")]
    (found,) = (
        pid
        for pid in pids
        if "mossy_trail.ingest.receiver" in told(pid, "cmdline")
        and f"\nPPid:\t{server.process.pid}\n" in told(pid, "status")
        and runs(pid)
    )
    return found


def runs(pid: int) -> bool:
    """Whether there is such a process that has not ended."""
    return "\nState:\t" in told(pid, "status") and "\nState:\tZ" not in told(pid, "status")


def told(pid: int, what: str) -> str:
    """What the system tells of a process; nothing where there is none."""
    try:
        return Path(f"/proc/{pid}/{what}").read_text()
    except (FileNotFoundError, ProcessLookupError):
        return ""


def outcome(server: Server, app: str, job: int, rows: int) -> bool:
    """Whether the import landed: then its log is whole; else nothing of it is there."""
    state = settled(server, job)
    listed = patiently(server, f"/api/apps/{app}/logs")
    if state["state"] == "done":
        (log,) = listed["logs"]
        assert (log["id"], log["rows"], log["set_aside"]) == (state["log_id"], rows, 0)
        assert log["rows"] == sum(listed["fates"].values())
        assert listed["jobs"] == []
    else:
        assert state["state"] in ("interrupted", "failed"), state
        assert listed["logs"] == []
        assert [(j["id"], j["can_retry"]) for j in listed["jobs"]] == [(job, True)]
    for log in listed["logs"]:
        gone = server.client.delete(f"/api/logs/{log['id']}")
        assert gone.status_code == 204, gone.text
    server.client.delete(f"/api/jobs/{job}")
    return state["state"] == "done"


def settled(server: Server, job: int) -> dict[str, Any]:
    ended = ("done", "failed", "interrupted", "cancelled")

    def ask() -> dict[str, Any] | None:
        state = patiently(server, f"/api/jobs/{job}")
        return state if state["state"] in ended else None

    state: dict[str, Any] = until(ask)
    return state


def patiently(server: Server, path: str) -> dict[str, Any]:
    """The answer; asked again while the database is starting."""

    def ask() -> httpx.Response | None:
        answer = server.client.get(path)
        return None if answer.status_code == 503 else answer

    answer = until(ask)
    assert answer.status_code == 200, answer.text
    found: dict[str, Any] = answer.json()
    return found


def screens_of(server: Server, app: str, least: int) -> set[str]:
    """The screens of all live rows, once they are read in; none may be there twice."""

    def read_in() -> dict[str, Any] | None:
        (log,) = patiently(server, f"/api/apps/{app}/logs")["logs"]
        return None if log["waiting"] else log

    log = until(read_in)
    assert log["rows"] >= least
    until(lambda: patiently(server, f"/api/apps/{app}/health")["rows"] == log["rows"])
    text = server.client.get(f"/api/apps/{app}/rows.csv").text
    header, *lines = text.splitlines()
    place = header.replace('"', "").split(",").index("screen")
    counts = Counter(line.replace('"', "").split(",")[place] for line in lines)
    assert len(lines) == log["rows"]
    assert set(counts.values()) == {1}
    return set(counts)
