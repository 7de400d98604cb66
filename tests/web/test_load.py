"""Many at once, and some that are slow: nobody waits for another, and all are answered alike."""

from __future__ import annotations

import http.client
import json
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack
from pathlib import Path
from urllib.parse import urlsplit

import httpx
import pytest

from tests.conftest import Demo, Server

CLIENTS, STREAMS = 50, 40
ASKED = [
    "/measures/sign-in",
    "/measures/tabs?unit=users",
    "/measures/paths?reading=kept&deep=3",
    "/measures/patterns?pattern=SailingsBoard%20..%20SignIn",
    "/journeys?sort=most_turns&limit=5",
    "/health",
]


@pytest.fixture
def log(tmp_path: Path) -> bytes:
    views = [f"2026-05-04T10:{i // 60:02}:{i % 60:02}Z,u{i % 7},S{i % 5}" for i in range(3000)]
    return "\n".join(["time,user,screen", *views]).encode()


def test_fifty_clients_are_all_answered_alike(server: Server, demo: Demo) -> None:
    app = server.new_app("Fifty at once")
    server.follow(server.upload(app, demo.csv)["id"])
    alone = {path: server.get(f"/api/apps/{app}{path}") for path in ASKED}

    def ask(number: int) -> list[object]:
        with httpx.Client(base_url=server.url, timeout=120) as client:
            order = ASKED[number % len(ASKED) :] + ASKED[: number % len(ASKED)]
            answers = {path: client.get(f"/api/apps/{app}{path}") for path in order}
        return [path for path, one in answers.items() if one.json() != alone[path]]

    with ThreadPoolExecutor(CLIENTS) as pool:
        assert list(pool.map(ask, range(CLIENTS))) == [[]] * CLIENTS


def test_who_sends_slowly_or_only_listens_keeps_nobody_waiting(server: Server, log: bytes) -> None:
    app = server.new_app("Slow senders")

    def job() -> int:
        asked = {"files": [{"name": "slow.csv", "bytes": len(log)}]}
        return int(server.client.post(f"/api/apps/{app}/imports", json=asked).json()["id"])

    slow, quick = job(), job()
    halves = log[: len(log) // 2], log[len(log) // 2 :]
    with ExitStack() as open_ones:
        sender = http.client.HTTPConnection(urlsplit(server.url).netloc, timeout=120)
        open_ones.callback(sender.close)
        sender.putrequest("PUT", f"/api/jobs/{slow}/files/0")
        sender.putheader("Content-Length", str(len(log)))
        sender.endheaders(halves[0])  # the other half is still to come
        for _ in range(STREAMS):
            client = open_ones.enter_context(httpx.Client(base_url=server.url, timeout=120))
            stream = client.stream("GET", f"/api/jobs/{slow}/events")
            first: Iterator[str] = open_ones.enter_context(stream).iter_lines()
            assert next(first)
        url = f"/api/jobs/{quick}/files/0"
        assert server.client.put(url, content=log).status_code == 200
        assert server.follow(quick)["state"] == "done"
        sender.send(halves[1])
        assert sender.getresponse().status == 200
    assert server.follow(slow)["state"] == "done"
    (own,) = [one for one in server.get("/api/apps") if one["key"] == app]
    assert (own["logs"], own["rows"]) == (2, 6000)


def test_one_slot_written_eight_times_at_once_is_one_file(server: Server, log: bytes) -> None:
    app = server.new_app("Eight at once")
    asked = {"files": [{"name": "same.csv", "bytes": len(log)}]}
    job = server.client.post(f"/api/apps/{app}/imports", json=asked).json()["id"]

    def put(_: int) -> int:
        with httpx.Client(base_url=server.url, timeout=120) as client:
            try:
                return client.put(f"/api/jobs/{job}/files/0", content=log).status_code
            except httpx.TransportError:
                return 409  # refused before all of it was sent

    with ThreadPoolExecutor(8) as pool:
        told = set(pool.map(put, range(8)))
    assert 200 in told
    assert told <= {200, 404, 409, 422}
    state = server.follow(job)
    assert state["state"] == "done", (told, state)
    (own,) = [one for one in server.get("/api/apps") if one["key"] == app]
    assert (own["logs"], own["rows"]) == (1, 3000)


@pytest.mark.parametrize("size", [10**30, -1, "many"])
def test_a_size_that_no_file_has_is_refused(server: Server, size: object) -> None:
    body = json.dumps({"files": [{"name": "odd.csv", "bytes": size}]})
    answer = server.client.post(
        "/api/apps/skerry-crossings/imports",
        content=body,
        headers={"Content-Type": "application/json"},
    )
    assert answer.status_code in (413, 422)
    assert answer.json()["title"]
