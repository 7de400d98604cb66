"""The app map over the API: every figure opens, changes hold at once, versions come back."""

from __future__ import annotations

import json
from typing import Any

import pytest
import yaml

from mossy_trail.demo.load import MAP
from mossy_trail.intake.app_map_file import parse_map
from tests.conftest import Demo, Server

PLAIN = {"Content-Type": "text/plain"}


@pytest.fixture(scope="module")
def app(server: Server, demo: Demo) -> str:
    key = server.new_app("Mapped")
    job = server.upload(key, demo.csv)
    assert server.follow(job["id"])["state"] == "done"
    return key


def view(server: Server, app: str, **scope: str) -> dict[str, Any]:
    found: dict[str, Any] = server.get(f"/api/apps/{app}/map/view", **scope)
    return found


def counted(server: Server, app: str, figure: list[str], **scope: str) -> int:
    asked = {"measure": "app-map", "figure": json.dumps(figure), **scope}
    return int(server.get(f"/api/apps/{app}/journeys", limit=1, **asked)["total"])


@pytest.mark.parametrize("scope", [{}, {"since": "2026-05-10", "until": "2026-05-16"}])
def test_every_figure_opens_to_as_many_journeys(
    server: Server, app: str, scope: dict[str, str]
) -> None:
    found = view(server, app, **scope)
    visited = [screen for screen in found["screens"] if screen["journeys"]]
    assert len(visited) > 25
    for screen in visited:
        assert counted(server, app, [screen["name"]], **scope) == screen["journeys"]
        assert screen["journeys"] <= screen["visits"]
    for move in [*found["moves"][:40], *found["moves"][-10:]]:
        figure = [move["by"], move["from"], move["to"]]
        assert counted(server, app, figure, **scope) == move["journeys"] <= move["steps"]


def test_visits_and_moves_are_the_true_ones(server: Server, app: str, demo: Demo) -> None:
    found = view(server, app)
    truth = [step["screen"] for step in demo.truth]
    assert {s["name"]: s["visits"] for s in found["screens"] if s["visits"]} == {
        name: truth.count(name) for name in set(truth)
    }
    pushes = [step for step in demo.truth if step["move"] == "push"]
    told = sum(move["steps"] for move in found["moves"] if move["by"] == "push")
    assert told == len(pushes)


@pytest.mark.parametrize("figure", ["", "x", "[]", '["no such screen"]', '["fly", "A", "B"]', "7"])
def test_what_is_no_figure_is_said_to_be_none(server: Server, app: str, figure: str) -> None:
    asked = {"measure": "app-map", "figure": figure}
    answer = server.client.get(f"/api/apps/{app}/journeys", params=asked)
    assert (answer.status_code, "no such figure" in answer.json()["title"]) == (404, True)


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("mossy_map: 1\nscreens:\n  - {name: A}\n  - {name: B, role: pilot}\n", "Line 4, at scr"),
        ("mossy_map: 1\nscreens:\n  - {name: A}\n  - {name: A}\n", "Line 4, at screens.1: "),
        ("mossy_map: 1\ntabs:\n  - name: T\n    root: Z\n", "Line 4, at tabs.0.root: "),
        (
            "mossy_map: 1\ntabs:\n- {name: F, kind: filter, on: Z}\n",
            "Line 3, at tabs.0.on: there is no screen 'Z'",
        ),
        ("mossy_map: 1\nscreens: [\n", "Line 3: "),
        ('{"mossy_map": 1,\n "history": {"tabs": "odd"}}', "Line 2, at history.tabs: "),
    ],
)
def test_a_faulty_map_is_told_by_line_and_key(
    server: Server, app: str, text: str, says: str
) -> None:
    before = view(server, app)["document"]
    answer = server.client.put(f"/api/apps/{app}/map", content=text, headers=PLAIN)
    assert answer.status_code == 422
    assert answer.json()["title"].startswith(says), answer.json()["title"]
    assert view(server, app)["document"] == before


def test_unknown_names_changes_and_versions(server: Server, demo: Demo) -> None:
    key = server.new_app("Changing")
    few = parse_map(MAP.read_text())
    few["screens"] = [s for s in few["screens"] if s["name"] not in ("DelayInfo", "SeatPick")]
    few["screens"].append({"name": "SeatPick2"})
    job = server.upload(key, demo.json_lines)
    assert server.follow(job["id"])["state"] == "done"
    url = f"/api/apps/{key}/map"
    assert server.client.put(url, content=json.dumps(few), headers=PLAIN).status_code == 200
    unknown = {s["name"]: s["proposal"] for s in view(server, key)["screens"] if s["unknown"]}
    assert unknown["SeatPick"]["screen"] == "SeatPick2"
    assert unknown["DelayInfo"] is None
    before = view(server, key)
    few["screens"][-1]["aliases"] = ["SeatPick"]
    server.client.put(url, content=json.dumps(few), headers=PLAIN)
    taken = {s["name"]: s for s in view(server, key)["screens"]}
    assert "SeatPick" not in taken
    assert taken["SeatPick2"]["visits"] > 0, "the change holds at once"
    newest = before["versions"][-1]["version"]
    assert server.client.post(f"{url}/versions/{newest}").json()["version"] == newest + 2
    undone = view(server, key)
    assert (undone["document"], undone["screens"]) == (before["document"], before["screens"])
    assert server.client.post(f"{url}/versions/99").status_code == 404


def test_a_draft_becomes_the_map_and_its_file_comes_back(server: Server, demo: Demo) -> None:
    key = server.new_app("Drafted", with_map=False)
    url = f"/api/apps/{key}/map"
    assert server.get(f"{url}/draft")["document"]["screens"] == []
    (nothing,) = server.get(f"{url}/history")
    assert not any(nothing["told"].values())
    assert view(server, key)["screens"] == []
    job = server.upload(key, demo.csv)
    assert server.follow(job["id"])["state"] == "done"
    made = server.get(f"{url}/draft")
    server.client.put(url, content=json.dumps(made["document"]), headers=PLAIN)
    assert not [s for s in view(server, key)["screens"] if s["unknown"]]
    text = server.client.get(url).text
    assert yaml.safe_load(text) == made["document"]
    fits = server.get(f"{url}/history", by="version")
    assert [one["value"] for one in fits] == ["", "3.0", "3.1", "3.2"]
    assert fits[0]["history"]["tabs"] == "keep"
    assert len(server.get(f"{url}/history", by="🚢 <script>")) == 1, "no row has such a property"
    assert server.client.get(f"{url}/schema").json()["title"].startswith("Mossy Trail app map")


def test_plan_and_practice(server: Server, app: str) -> None:
    plan = parse_map(MAP.read_text())
    plan["screens"].append({"name": "Lounge"})
    plan["moves"] = [
        {"from": "SailingsBoard", "to": "SailingDetail", "by": "push"},
        {"from": "SailingsBoard", "to": "Lounge"},
        {"from": "SailingDetail", "to": "SailingsBoard", "by": "push"},
    ]
    url = f"/api/apps/{app}/map"
    server.client.put(url, content=json.dumps(plan), headers=PLAIN)
    practice = view(server, app)["practice"]
    never = {(m["from"], m["to"]) for m in practice["never_seen"]}
    assert never == {("SailingsBoard", "Lounge"), ("SailingDetail", "SailingsBoard")}
    undeclared = {(m["from"], m["to"], m["by"]) for m in practice["not_declared"]}
    assert ("PassWallet", "PassDetail", "push") in undeclared
    assert ("SailingsBoard", "SailingDetail", "push") not in undeclared
    assert practice["unreached"] == ["Lounge"]
    server.client.post(f"{url}/versions/1")
