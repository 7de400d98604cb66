"""Logs, live events, maps, kept things, users erased and a killed server, in any order: what came
in is there, once, and what was taken away is nowhere."""

from __future__ import annotations

import csv
import io
import json
import signal
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, precondition, rule, run_state_machine_as_test

from tests.campaign import examples
from tests.conftest import Server, until

USERS = [f"person-{name}" for name in ("ada", "bo", "cy", "di")]
Told = tuple[str, str]
"""A user and a screen; no two rows that were sent show the same screen."""


@pytest.fixture
def own_server(tmp_path: Path) -> Iterator[Server]:
    server = Server(tmp_path / "data")
    server.start()
    yield server
    server.remove()


class Campaign(RuleBasedStateMachine):
    server: Server
    folder: Path

    def __init__(self) -> None:
        super().__init__()
        self.app = self.server.new_app("Campaign", with_map=False)
        key = self.server.client.post(f"/api/apps/{self.app}/ingest-key").json()["key"]
        self.headers = {
            "Authorization": f"Bearer {key}",
            "Content-Type": "application/cloudevents-batch+json",
        }
        self.logs: dict[int, list[Told]] = {}
        self.live: dict[str, Told] = {}
        self.kept: dict[str, Any] = {}
        self.erased: set[str] = set()
        self.sent = 0

    def told(self, users: list[str]) -> list[Told]:
        """New rows of these users, which may have been erased: then they are there again."""
        self.erased -= set(users)
        first, self.sent = self.sent, self.sent + len(users)
        return [(user, f"Screen {first + i}") for i, user in enumerate(users)]

    def row(self, told: Told) -> dict[str, Any]:
        user, screen = told
        minute = int(screen.split()[1])
        time = f"2026-05-{4 + minute // 1440:02}T{minute // 60 % 24:02}:{minute % 60:02}:00Z"
        return {"time": time, "user": user, "event": "screen_view", "screen": screen}

    @rule(users=st.lists(st.sampled_from(USERS), min_size=1, max_size=30), form=st.booleans())
    def bring_in(self, users: list[str], form: bool) -> None:
        told = self.told(users)
        rows = [self.row(one) for one in told]
        path = self.folder / f"log-{self.sent}.{'csv' if form else 'jsonl'}"
        if form:
            text = io.StringIO()
            writer = csv.DictWriter(text, list(rows[0]))
            writer.writeheader()
            writer.writerows(rows)
            path.write_text(text.getvalue())
        else:
            path.write_text("\n".join(map(json.dumps, rows)))
        job = self.server.follow(self.server.upload(self.app, path)["id"])
        assert job["state"] == "done", job
        self.logs[job["log_id"]] = told

    @rule(users=st.lists(st.sampled_from(USERS), min_size=1, max_size=6), again=st.booleans())
    def send(self, users: list[str], again: bool) -> None:
        new = {told[1]: told for told in self.told(users)}
        self.live |= new
        # What is erased may not come again by what the phone did not know to be received.
        sent = list(self.live.values()) if again else list(new.values())
        events = [
            {"specversion": "1.0", "source": "phone", "id": screen, "type": "screen_view"}
            | {"subject": user, "time": self.row((user, screen))["time"]}
            | {"data": {"screen": screen}}
            for user, screen in sent
        ]
        path = f"/api/apps/{self.app}/events"
        answer = self.server.client.post(path, json=events, headers=self.headers)
        assert answer.status_code == 200, answer.text
        assert answer.json()["accepted"] == len(new), answer.json()

    @precondition(lambda self: self.logs)
    @rule(data=st.data())
    def delete(self, data: st.DataObject) -> None:
        log = data.draw(st.sampled_from(sorted(self.logs)))
        assert self.server.client.delete(f"/api/logs/{log}").status_code == 204
        del self.logs[log]

    @rule(user=st.sampled_from(USERS))
    def erase(self, user: str) -> None:
        until(self.is_there)
        known = any(told[0] == user for told in self.expected())
        path = f"/api/apps/{self.app}/users"
        answer = self.server.client.delete(path, params={"user": user})
        assert answer.status_code == (200 if known else 404), answer.text
        if known:
            self.erased.add(user)
        for log, told in self.logs.items():
            self.logs[log] = [one for one in told if one[0] != user]
        self.live = {screen: one for screen, one in self.live.items() if one[0] != user}

    @rule(tabs=st.sampled_from(["keep", "reset", "shared"]), name=st.sampled_from(["A", "B"]))
    def change_map(self, tabs: str, name: str) -> None:
        document = {"mossy_map": 1, "app": "Campaign", "history": {"tabs": tabs}}
        document["screens"] = [{"name": name, "aliases": ["Screen 0", "Screen 1"]}]
        path = f"/api/apps/{self.app}/map"
        answer = self.server.client.put(path, content=json.dumps(document))
        assert answer.status_code == 200, answer.text

    @rule(name=st.sampled_from(["Mine", "Yours"]), value=st.sampled_from(["x", "y"]))
    def keep(self, name: str, value: str) -> None:
        document = {"entry": [value]} if value == "x" else {"marks": ["stuck"]}
        path = f"/api/apps/{self.app}/kept/segment"
        answer = self.server.client.put(path, json={"name": name, "document": document})
        if answer.status_code == 200:
            self.kept[name] = answer.json()["document"]

    @rule()
    def kill(self) -> None:
        self.server.stop(signal.SIGKILL)
        self.server.start()

    def expected(self) -> Counter[Told]:
        rows = [told for log in self.logs.values() for told in log]
        return Counter(rows) + Counter(self.live.values())

    def is_there(self) -> bool:
        answer = self.server.client.get(f"/api/apps/{self.app}/rows.jsonl")
        if answer.status_code == 503:
            return False
        found = Counter(
            (row["user"], row["screen"]) for row in map(json.loads, answer.text.splitlines())
        )
        return found == self.expected()

    def teardown(self) -> None:
        until(self.is_there)
        listed = self.server.get(f"/api/apps/{self.app}/logs")
        assert {log["id"] for log in listed["logs"] if not log["live"]} == set(self.logs)
        assert sum(log["rows"] for log in listed["logs"]) == self.expected().total()
        kept = self.server.get(f"/api/apps/{self.app}/kept/segment")
        assert {one["name"]: one["document"] for one in kept} == self.kept
        for log in listed["logs"]:
            raw = self.server.client.get(f"/api/logs/{log['id']}/set-aside.csv").text
            assert not [user for user in self.erased if user in raw]
        left = [
            (user, path)
            for path in (self.server.folder / "uploads").rglob("*")
            for user in self.erased
            if path.is_file() and user.encode() in path.read_bytes()
        ]
        assert not left


def test_what_came_in_is_there_and_what_was_taken_away_is_not(
    own_server: Server, tmp_path: Path
) -> None:
    class Own(Campaign):
        server, folder = own_server, tmp_path

    few = list(HealthCheck)
    run_state_machine_as_test(
        Own, settings=examples(2, stateful_step_count=9, suppress_health_check=few)
    )
