"""Logs come in from files, folders and phones, are read otherwise, go out, and are erased."""

from __future__ import annotations

import csv
import io
import json
import re
from pathlib import Path
from typing import Any

import polars as pl
import pytest

from tests.conftest import Demo, Server, until

KINDS = {
    "structured": "application/cloudevents+json",
    "batch": "application/cloudevents-batch+json",
    "binary": "application/json",
}


def event(number: int, **changes: Any) -> dict[str, Any]:
    return {
        "specversion": "1.0",
        "id": f"e{number}",
        "source": "phone-1",
        "type": "skerry.screen_view",
        "subject": "u1",
        "time": f"2026-05-04T10:00:{number:02}Z",
        "data": {"screen": f"S{number}", "session": "s"},
        **changes,
    }


class Sender:
    def __init__(self, server: Server, app: str) -> None:
        self.client, self.url = server.client, f"/api/apps/{app}/events"
        key = self.client.post(f"/api/apps/{app}/ingest-key").json()["key"]
        self.headers = {"Authorization": f"Bearer {key}"}

    def send(self, body: Any, kind: str = "batch", **headers: str) -> tuple[int, dict[str, Any]]:
        content = body if isinstance(body, bytes) else json.dumps(body).encode()
        sent = {**self.headers, "Content-Type": KINDS.get(kind, kind), **headers}
        answer = self.client.post(self.url, content=content, headers=sent)
        return answer.status_code, answer.json()


def logs(server: Server, app: str) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = server.get(f"/api/apps/{app}/logs")["logs"]
    return found


def live_rows(server: Server, app: str, rows: int) -> dict[str, Any]:
    def ask() -> dict[str, Any] | None:
        found = [log for log in logs(server, app) if log["live"] and not log["waiting"]]
        return found[0] if found and found[0]["rows_read"] == rows else None

    answer: dict[str, Any] = until(ask)
    # The figures follow a moment later.
    of_app = sum(log["rows"] for log in logs(server, app))
    until(lambda: server.get(f"/api/apps/{app}/health")["rows"] == of_app)
    return answer


def steps(server: Server, app: str) -> list[dict[str, Any]]:
    text = server.client.get(f"/api/apps/{app}/steps.jsonl").text
    return [json.loads(line) for line in text.splitlines()]


def without_rows(found: list[dict[str, Any]]) -> list[dict[str, Any]]:
    keep = [{k: v for k, v in step.items() if k != "rows"} for step in found]
    return sorted(keep, key=lambda s: (s["user"], s["time"], s["step"]))


def test_events_come_in_by_every_mode_each_once(server: Server, tmp_path: Path) -> None:
    app = server.new_app("Phones", with_map=False)
    sender = Sender(server, app)
    status, receipt = sender.send([event(0), event(1), event(0)])
    fates = [one["fate"] for one in receipt["events"]]
    assert (status, fates) == (200, ["used", "used", "doubled"])
    assert (receipt["accepted"], receipt["duplicates"], receipt["set_aside"]) == (2, 1, 0)
    assert sender.send(event(2), "structured")[1]["accepted"] == 1
    assert sender.send(event(1, data={"screen": "Other"}), "structured")[1]["duplicates"] == 1
    ce = {f"ce-{k}": str(v) for k, v in event(3).items() if k != "data"}
    ce["ce-subject"] = "u1%20%C3%BC"
    assert sender.send(event(3)["data"], "binary", **ce)[1]["accepted"] == 1
    assert sender.send([event(1, source="phone-2", tier="gold")])[1]["accepted"] == 1
    log = live_rows(server, app, 5)
    assert (log["rows"], log["duplicates"], log["users"]) == (5, 2, 2)
    shown = [(s["user"], s["screen"]) for s in steps(server, app)]
    assert sorted(shown) == [("u1", "S0"), ("u1", "S1"), ("u1", "S2"), ("u1 ü", "S3")]
    (first, _) = server.get(f"/api/apps/{app}/journeys?sort=longest")["journeys"]
    query = {"key": first["key"], "step": 1}
    (row,) = server.get(f"/api/apps/{app}/journey/step", **query)["rows"]
    assert json.loads(row["raw"])["screen"] == "S0"
    health = server.get(f"/api/apps/{app}/health")
    assert (health["rows"], health["duplicates"]) == (5, 2)
    timeless = {key: value for key, value in event(9).items() if key != "time"}
    (told,) = sender.send(timeless, "structured")[1]["events"]
    assert (told["fate"], told["reason"]) == ("set aside", "time cannot be read")
    path = tmp_path / "more.csv"
    path.write_text("time,user,screen\n2026-05-04T10:00:00Z,u,S9\nnever,u,S9\nnever,u,S9\n")
    assert server.follow(server.upload(app, path)["id"])["state"] == "done"
    aside = [{"reason": "time cannot be read", "rows": 3}]
    until(lambda: server.get(f"/api/apps/{app}/health")["set_aside"] == aside)


@pytest.mark.parametrize(
    ("body", "kind", "status", "says"),
    [
        ([event(0), {**event(1), "id": ""}], "batch", 400, "Event 2 has no “id”."),
        ([event(0, specversion="0.3")], "batch", 400, "another version"),
        ({"no": "list"}, "batch", 400, "A batch is a JSON array"),
        (b'{"cut', "structured", 400, "is not JSON"),
        (b"[" * 100_000, "batch", 400, "is not JSON"),
        (["x"], "batch", 400, "Event 1 is not a JSON object"),
        (event(0), "text/plain", 400, "content type"),
        ([event(0, source="s" * 600)], "batch", 400, "512 characters"),
        (b" " * (9 << 20), "batch", 413, "larger than 8 MB"),
    ],
)
def test_what_is_no_event_is_refused_whole(
    server: Server, body: Any, kind: str, status: int, says: str
) -> None:
    app = server.new_app("Refusing", with_map=False)
    code, problem = Sender(server, app).send(body, kind)
    assert (code, says in problem["title"]) == (status, True), problem
    assert logs(server, app) == []


def test_events_need_the_key_of_their_app(server: Server) -> None:
    app, other = (server.new_app(name, with_map=False) for name in ("Keyed", "Other"))
    sender, foreign = Sender(server, app), Sender(server, other)
    foreign.url = sender.url
    assert foreign.send([event(0)])[0] == 401
    old = dict(sender.headers)
    sender.headers = Sender(server, app).headers
    assert sender.send([event(0)])[0] == 200
    sender.headers = old
    assert sender.send([event(1)])[0] == 401


def test_live_rows_are_set_aside_and_read_otherwise(server: Server) -> None:
    app = server.new_app("Live foreign", with_map=False)
    sender = Sender(server, app)
    odd = [event(i, data={"place": f"P{i}"}, type="seen") for i in range(3)]
    assert sender.send([*odd, event(8, subject=None)])[0] == 200
    log = live_rows(server, app, 4)
    assert log["reasons"] == {"no user": 1}
    assert steps(server, app) == [], "`seen` is no word of ours, and no screen is known"
    job = server.client.post(f"/api/logs/{log['id']}/files/0/read-anew").json()
    mapping = server.get(f"/api/jobs/{job['id']}/mapping")["mapping"]
    mapping["fields"]["screen"] = ["place"]
    mapping["events"] = {"seen": "screen_view"}
    server.client.put(f"/api/jobs/{job['id']}/mapping", json=mapping)
    assert server.follow(job["id"])["state"] == "done"
    assert sender.send([event(9, data={"place": "P9"}, type="seen")])[0] == 200
    live_rows(server, app, 5)
    assert [s["screen"] for s in steps(server, app)] == ["P0", "P1", "P2", "P9"]


@pytest.mark.parametrize("form", ["csv", "jsonl", "parquet", "xes"])
def test_rows_go_out_and_come_in_again_as_the_same_steps(
    server: Server, demo: Demo, tmp_path: Path, form: str
) -> None:
    head, *lines = demo.csv.read_text().splitlines()
    params = '"{""q"": ""<é>""}"'
    odd = f'2026-05-04T00:00:01Z,=cmd,s,screen_view,"\'=a, ""b""",,-x,,,,{params},,,3.0,ios,no'
    path = tmp_path / "some.csv"
    path.write_text("\n".join([head, odd, *lines[:4000]]) + "\n")
    app, again = server.new_app("Out"), server.new_app("In again")
    assert server.follow(server.upload(app, path)["id"])["state"] == "done"
    data = server.client.get(f"/api/apps/{app}/rows.{form}").content
    if form == "csv":
        assert b"\n=cmd" not in data
        assert b"'=cmd" in data
    out = tmp_path / f"rows.{form}"
    out.write_bytes(data)
    assert server.follow(server.upload(again, out)["id"])["state"] == "done"
    assert [log["set_aside"] for log in logs(server, again)] == [0]
    assert without_rows(steps(server, again)) == without_rows(steps(server, app))
    assert len(steps(server, app)) > 1000


@pytest.mark.parametrize("form", ["csv", "jsonl", "parquet", "xes"])
def test_steps_go_out_in_every_format_within_the_scope(
    server: Server, demo: Demo, tmp_path: Path, form: str
) -> None:
    app = server.new_app("Scoped out")
    assert server.follow(server.upload(app, demo.csv)["id"])["state"] == "done"
    scope = {"since": "2026-05-10", "until": "2026-05-12", "search": "receipt"}
    found = server.client.get(f"/api/apps/{app}/journeys", params=scope).json()
    data = server.client.get(f"/api/apps/{app}/steps.{form}", params=scope).content
    if form == "csv":
        users = [row["user"] for row in csv.DictReader(io.StringIO(data.decode()))]
    elif form == "jsonl":
        users = [json.loads(line)["user"] for line in data.splitlines()]
    elif form == "parquet":
        users = pl.read_parquet(io.BytesIO(data))["user"].to_list()
    else:
        path = tmp_path / "steps.xes"
        path.write_bytes(data)
        other = server.new_app("Steps as a log", with_map=False)
        assert server.follow(server.upload(other, path)["id"])["state"] == "done"
        traces = re.findall(rb'<trace>.*\n<string key="user" value="([^"]*)"', data)
        users = [user.decode() for user in traces]
    journeys = server.client.get(f"/api/apps/{app}/journeys", params={**scope, "limit": 200}).json()
    assert found["total"] > 5
    assert set(users) == {journey["user"] for journey in journeys["journeys"]}
    if form != "xes":
        assert len(users) == sum(journey["steps"] for journey in journeys["journeys"])


def test_a_folder_is_one_log_whatever_its_files_are(
    server: Server, demo: Demo, tmp_path: Path
) -> None:
    head, *lines = demo.csv.read_text().splitlines()
    thirds = [lines[0:900:3], lines[1:900:3], lines[2:900:3]]
    paths = [tmp_path / name for name in ("a.csv", "b.jsonl", "c.csv")]
    for path, own in zip(paths, thirds, strict=True):
        path.write_text("\n".join([head, *own]) + "\n")
    rows = csv.DictReader(io.StringIO(paths[1].read_text()))
    objects = [{k: v for k, v in row.items() if v} for row in rows]
    paths[1].write_text("".join(json.dumps(row) + "\n" for row in objects))
    whole = tmp_path / "whole.csv"
    whole.write_text("\n".join([head, *lines[:900]]) + "\n")
    app, other = server.new_app("Folder"), server.new_app("Whole")
    assert server.follow(server.upload(app, *paths)["id"])["state"] == "done"
    assert server.follow(server.upload(other, whole)["id"])["state"] == "done"
    (log,) = logs(server, app)
    assert (log["files"], log["rows"]) == (["a.csv", "b.jsonl", "c.csv"], 900)
    assert without_rows(steps(server, app)) == without_rows(steps(server, other))
    picture = tmp_path / "note.png"
    picture.write_bytes(b"\x89PNG\r\n" + bytes(100))
    job = server.follow(server.upload(app, paths[0], picture)["id"])
    assert (job["state"], job["message"]) == (
        "failed",
        "note.png: This is a PNG picture, not a log.",
    )
    assert len(logs(server, app)) == 1


def test_rows_set_aside_are_taken_in_when_they_are_read_otherwise(
    server: Server, tmp_path: Path
) -> None:
    app = server.new_app("Anew", with_map=False)
    path = tmp_path / "local.csv"
    path.write_text(
        "time,user,screen\n2026-07-01 12:00:00,u1,A\n7.2.2026 12:30,u1,B\n2026-07-01 12:01,,C\n"
    )
    assert server.follow(server.upload(app, path)["id"])["state"] == "done"
    (log,) = logs(server, app)
    assert log["reasons"] == {"time cannot be read": 1, "no user": 1}
    job = server.client.post(f"/api/logs/{log['id']}/files/0/read-anew").json()
    assert (job["state"], job["anew"]) == ("asking", True)
    address = f"/api/jobs/{job['id']}/mapping"
    seen = server.client.get(address).json()
    mapping = {
        **seen["mapping"],
        "fields": {"time": ["time"], "screen": ["screen"]},
        "constants": {"user": "everyone"},
        "times": {"form": "month first", "zone": "Europe/Oslo"},
    }
    read = server.client.post(f"{address}/preview", json=mapping).json()["read"]
    assert [row["time"] for row in read] == [
        "2026-07-01 10:00:00.000",
        "2026-07-02 10:30:00.000",
        "2026-07-01 10:01:00.000",
    ]
    wrong = {**mapping, "times": {"form": "month first", "zone": "Skerry/North"}}
    refused = server.client.put(address, json=wrong)
    assert (refused.status_code, "no such time zone" in refused.text) == (422, True)
    assert server.client.put(address, json=mapping).status_code == 200
    assert server.follow(job["id"])["state"] == "done"
    (after,) = logs(server, app)
    assert (after["id"], after["rows"], after["set_aside"]) == (log["id"], 3, 0)
    assert [s["screen"] for s in steps(server, app)] == ["A", "C", "B"]


def test_a_log_deleted_while_it_is_read_anew_stays_deleted(server: Server, demo: Demo) -> None:
    app = server.new_app("Gone meanwhile")
    assert server.follow(server.upload(app, demo.csv)["id"])["state"] == "done"
    (log,) = logs(server, app)
    job = server.client.post(f"/api/logs/{log['id']}/files/0/read-anew").json()
    mapping = server.get(f"/api/jobs/{job['id']}/mapping")["mapping"]
    server.client.delete(f"/api/logs/{log['id']}")
    answer = server.client.put(f"/api/jobs/{job['id']}/mapping", json=mapping)
    assert answer.status_code == 404, answer.text
    assert logs(server, app) == []


def test_a_user_is_erased_to_the_last_byte(server: Server, demo: Demo, tmp_path: Path) -> None:
    head, *lines = demo.csv.read_text().splitlines()
    chosen = lines[500].split(",")[1]
    aside = [f"soon,{chosen},s,push,A" + "," * 11, f"soon,{chosen}9,s,push,A" + "," * 11]
    parquet, path = tmp_path / "log.parquet", tmp_path / "log.csv"
    path.write_text("\n".join([head, *lines[:3000], *aside]) + "\n")
    pl.read_csv(io.StringIO("\n".join([head, *lines[:3000]])), infer_schema=False).write_parquet(
        parquet
    )
    app = server.new_app("Erasing")
    sender = Sender(server, app)
    for file in (path, parquet):
        assert server.follow(server.upload(app, file)["id"])["state"] == "done"
    sender.send([event(1, subject=chosen), event(2)])
    live_rows(server, app, 2)
    broken = tmp_path / "broken.parquet"
    broken.write_bytes(b"PAR1 no more")
    assert server.follow(server.upload(app, broken)["id"])["state"] == "failed"
    own = sum(line.split(",")[1] == chosen for line in lines[:3000])
    before = without_rows(steps(server, app))
    erased = server.client.delete(f"/api/apps/{app}/users", params={"user": chosen})
    assert erased.json() == {"rows": 2 * own + 1, "set_aside": 1, "logs": 3, "not_landed": 1}
    again = sender.send([event(1, subject=chosen), event(2)])
    assert (again[1]["accepted"], again[1]["duplicates"]) == (0, 2), (
        "what was erased does not come in again"
    )
    assert (
        server.client.delete(f"/api/apps/{app}/users", params={"user": chosen}).status_code == 404
    )
    assert without_rows(steps(server, app)) == [s for s in before if s["user"] != chosen]
    left = {log["files"][0]: log for log in logs(server, app)}
    assert left["log.csv"]["rows"] == left["log.parquet"]["rows"] == 3000 - own
    assert left["log.csv"]["reasons"] == {"time cannot be read": 1}
    for log in left.values():
        job = server.client.post(f"/api/logs/{log['id']}/files/0/read-anew").json()
        seen = server.get(f"/api/jobs/{job['id']}/mapping")
        assert chosen not in {row.get("user") for row in seen["raw"]}
        server.client.put(f"/api/jobs/{job['id']}/mapping", json=seen["mapping"])
        assert server.follow(job["id"])["state"] == "done"
    assert {log["files"][0]: log["rows"] for log in logs(server, app)} == {
        name: log["rows"] for name, log in left.items()
    }
    dumped = server.client.get(f"/api/apps/{app}/rows.csv").text
    assert chosen not in dumped.replace(f"{chosen}9", "")


def test_accounts_make_persons_of_installs_and_are_erased_as_such(
    server: Server, tmp_path: Path
) -> None:
    def wrote(name: str, *rows: str) -> Path:
        lines = [f"{1777888800 + i},{row}" for i, row in enumerate(rows)]
        (tmp_path / name).write_text("\n".join(["time,user,account,screen", *lines]))
        return tmp_path / name

    def persons() -> list[tuple[str, str]]:
        return sorted((step["user"], step["screen"]) for step in steps(server, app))

    app = server.new_app("Persons", with_map=False)
    files = (
        wrote("a.csv", "d1,,A", "d1,ann,B", "d1,,C", "d1,bo,D"),
        wrote("b.csv", "d2,,E", "d3,,F"),
    )
    for file in (*files, wrote("c.csv", "d2,ann,G")):
        assert server.follow(server.upload(app, file)["id"])["state"] == "done"
    (first,) = (log for log in logs(server, app) if log["files"] == ["a.csv"])
    assert first["users"] == 2
    of_ann = [("ann", screen) for screen in "ABCEG"]
    assert persons() == [*of_ann, ("bo", "D"), ("d3", "F")]
    Sender(server, app).send([event(1, subject="d3"), event(2, subject="d3", account="cy")])
    live_rows(server, app, 2)
    assert {user for user, _ in persons()} == {"ann", "bo", "cy"}
    erased = server.client.delete(f"/api/apps/{app}/users", params={"user": "ann"})
    assert erased.json() == {"rows": 5, "set_aside": 0, "logs": 3, "not_landed": 0}
    assert {user for user, _ in persons()} == {"bo", "cy"}
    assert "ann" not in server.client.get(f"/api/apps/{app}/rows.csv").text


def test_too_many_columns_and_screens_are_told(server: Server, tmp_path: Path) -> None:
    app = server.new_app("Wide", with_map=False)
    wide = tmp_path / "wide.csv"
    names = ["time", "user", "screen", *(f"c{i}" for i in range(2000))]
    wide.write_text(",".join(names) + "\n" + ",".join(["1777888800", "u", "A"] + ["1"] * 2000))
    job = server.follow(server.upload(app, wide)["id"])
    assert (job["state"], "2,003 columns" in job["message"]) == ("failed", True)
    many = tmp_path / "many.csv"
    rows = [f"{1777888800 + i},u,Trip/{i}" for i in range(2500)]
    many.write_text("\n".join(["time,user,screen", *rows]))
    assert server.follow(server.upload(app, many)["id"])["state"] == "done"
    health = server.get(f"/api/apps/{app}/health")
    assert (health["screens"], health["too_many_screens"]) == (2500, True)
    assert health["patterns"] == [{"pattern": "Trip/{id}", "names": 2500, "example": "Trip/0"}]
