"""Start-up, funnels and segments over the API: figures open, and nonsense is told."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Demo, Server

BUYING = {"stages": [{"any": [{"screens": [s]}]} for s in ("BuyPass", "PaySheet", "Receipt")]}
IOS = json.dumps({"property": "platform", "values": ["ios"]})


@pytest.fixture(scope="module")
def app(server: Server, demo: Demo) -> str:
    key = server.new_app("Getting in")
    assert server.follow(server.upload(key, demo.csv)["id"])["state"] == "done"
    return key


def counted(server: Server, app: str, measure: str, figure: Any, **scope: str) -> int:
    text = figure if isinstance(figure, str) else json.dumps(figure)
    asked = {"measure": measure, "figure": text, **scope}
    return int(server.get(f"/api/apps/{app}/journeys", limit=1, **asked)["total"])


@pytest.mark.parametrize("scope", [{}, {"unit": "users", "segment": IOS, "since": "2026-05-10"}])
def test_figures_open_in_the_same_scope(server: Server, app: str, scope: dict[str, str]) -> None:
    measures = f"/api/apps/{app}/measures"
    asked = {"spec": json.dumps(BUYING), "by": "version", "one": "3.1", "other": "3.2", **scope}
    found = server.get(f"{measures}/funnel", **asked)
    assert found["between"].keys() >= {"stages/stage.1/of_first", "stages/stage.2/of_previous"}
    groups = [(found["whole"], {})]
    groups += [(g["figures"], {"part_by": "version", "part": g["value"]}) for g in found["groups"]]
    for figures, part in groups:
        for stage in figures["stages"]:
            figure = {"funnel": BUYING, "cell": stage["cell"]}
            assert counted(server, app, "funnel", figure, **scope, **part) == stage["count"]
    starts = server.get(f"{measures}/start-up", slow="3000", **scope)
    left = counted(server, app, "start-up", {"cell": "left"}, **scope)
    assert left == starts["whole"]["left"]["count"] > 0
    chain = server.get(f"{measures}/onboarding", **scope)["whole"]
    for screen in chain["screens"]:
        assert counted(server, app, "onboarding", screen["cell"], **scope) == screen["sessions"]


def test_stages_are_marked_in_their_journeys(server: Server, app: str) -> None:
    figure = json.dumps({"funnel": BUYING, "cell": "stage.2"})
    path = f"/api/apps/{app}/journeys"
    page = server.get(path, measure="funnel", figure=figure, limit=5)
    assert page["journeys"]
    for listed in page["journeys"]:
        journey = server.get(f"/api/apps/{app}/journey", key=listed["key"])
        found = server.get(f"/api/apps/{app}/journey/matched", key=listed["key"], figure=figure)
        screens = [journey["trail"][one["step"] - 1]["screen"] for one in found]
        assert screens == ["BuyPass", "PaySheet", "Receipt"]


def test_what_is_kept_is_there_again(server: Server, app: str) -> None:
    kept = f"/api/apps/{app}/kept/funnel"
    for name in ("Buying", "<b>🚢 שלום / x</b>"):
        answer = server.client.put(kept, json={"name": name, "document": BUYING})
        assert answer.status_code == 200, answer.text
    shorter = {"stages": BUYING["stages"][:2]}
    server.client.put(kept, json={"name": "Buying", "document": shorter})
    listed = {one["name"]: one["document"] for one in server.get(kept)}
    assert listed == {"Buying": shorter, "<b>🚢 שלום / x</b>": BUYING}
    numbers = {one["name"]: one["id"] for one in server.get(kept)}
    odd, buying = numbers["<b>🚢 שלום / x</b>"], numbers["Buying"]
    for number, name, status in (
        (odd, "Buying", 409),
        (0, "Sold", 404),
        (1 << 40, "Sold", 404),
        (buying, "", 422),
        (buying, "Sold / 2", 200),
        (buying, "Buying", 200),
    ):
        answer = server.client.put(f"{kept}/{number}/name", json={"name": name})
        assert answer.status_code == status, answer.text
    assert {one["name"]: one["document"] for one in server.get(kept)} == listed
    for number in (odd, buying):
        assert server.client.delete(f"{kept}/{number}").status_code == 204
        assert server.client.delete(f"{kept}/{number}").status_code == 404
    segment = f"/api/apps/{app}/kept/segment"
    wrong = server.client.put(segment, json={"name": "odd", "document": {"mark": "odd"}})
    assert (wrong.status_code, "odd is none of" in wrong.text) == (422, True)


@pytest.mark.parametrize(
    ("path", "asked", "says"),
    [
        ("funnel", {}, "spec: Field required"),
        ("funnel", {"spec": "{"}, "the funnel: Invalid JSON"),
        ("funnel", {"spec": '{"stages": []}'}, "stages: List should have at least 1"),
        ("funnel", {"spec": json.dumps(BUYING), "segment": '{"x": 1}'}, "no segment has x in it"),
        ("funnel", {"spec": json.dumps(BUYING), "one": "a", "other": "b"}, "no “a” among"),
        ("start-up", {"segment": "]"}, "no JSON"),
    ],
)
def test_nonsense_is_told(
    server: Server, app: str, path: str, asked: dict[str, str], says: str
) -> None:
    answer = server.client.get(f"/api/apps/{app}/measures/{path}", params=asked)
    assert answer.status_code in (404, 422)
    assert says in answer.json()["title"]


def test_little_or_nothing_has_figures_too(server: Server, tmp_path: Path) -> None:
    empty = server.new_app("Without a log", with_map=False)
    one = server.new_app("One row", with_map=False)
    log = tmp_path / "one.csv"
    log.write_text("time,user,screen\n2026-05-04T10:00:00Z,u,BuyPass\n")
    server.follow(server.upload(one, log)["id"])
    for app, count in ((empty, 0), (one, 1)):
        measures = f"/api/apps/{app}/measures"
        found = server.get(f"{measures}/funnel", spec=json.dumps(BUYING), by="version")
        assert [stage["count"] for stage in found["whole"]["stages"]] == [count, 0, 0]
        assert server.get(f"{measures}/start-up")["whole"]["starts"] == count
        assert server.get(f"/api/apps/{app}/onboarding") is None
        assert server.get(f"{measures}/onboarding")["whole"]["begun"] == 0
        assert server.get(f"{measures}/gates")["whole"]["tries"] == 0
        assert len(server.get(f"/api/apps/{app}/vocabulary")["screens"]) == count
