"""Tabs, loops, links and drop-offs over the API: every cell opens as many journeys as it says."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest

from tests.conftest import Server
from tests.web.test_getting_in import IOS, app, counted

__all__ = ["app"]
VIEWS = ("tabs", "loops", "links", "drop-offs")


def cells(told: Any) -> Iterator[tuple[str, int]]:
    """Each figure anywhere in an answer, with the journeys that it says it has."""
    if isinstance(told, dict):
        if "figure" in told:
            yield told["figure"], told["journeys"]
        for value in told.values():
            yield from cells(value)
    elif isinstance(told, list):
        for value in told:
            yield from cells(value)


@pytest.mark.parametrize("view", VIEWS)
def test_every_cell_opens_in_the_same_scope(server: Server, app: str, view: str) -> None:
    scope = {"segment": IOS, "since": "2026-05-10"}
    goal = {"goal": "Receipt"} if view in ("links", "drop-offs") else {}
    found = dict(cells(server.get(f"/api/apps/{app}/measures/{view}", **scope, **goal)))
    assert len([n for n in found.values() if n]) > 20
    for figure, journeys in found.items():
        assert counted(server, app, view, figure, **scope) == journeys, figure


def test_loops_of_a_journey_are_where_they_say(server: Server, app: str) -> None:
    walked = server.get(f"/api/apps/{app}/measures/loops")["whole"]["loops"]
    assert len(walked) > 12
    for loop in walked[:12]:
        asked = {"measure": "loops", "figure": loop["count"]["figure"], "limit": 2}
        for listed in server.get(f"/api/apps/{app}/journeys", **asked)["journeys"]:
            trail = server.get(f"/api/apps/{app}/journey", key=listed["key"])["trail"]
            rounds = server.get(f"/api/apps/{app}/journey/loops", key=listed["key"])
            assert loop["count"]["figure"] in {one["figure"] for one in rounds}
            for one in rounds:
                shown = [step["screen"] for step in trail[one["first"] - 1 : one["last"]]]
                assert set(shown) == set(one["screens"])
                assert shown[0] == shown[len(one["screens"])]


@pytest.mark.parametrize(
    ("path", "says"),
    [
        ("measures/links?goal=moon", "no “moon” among the groups or screens"),
        ("measures/drop-offs?goal=moon", "no “moon” among"),
        ("measures/tabs?by=version&one=moon&other=3.1", "no “moon” among"),
        ("journey/loops?key=moon", "no such journey"),
        ('journeys?measure=links&figure=["every.goal","","moon"]', "no such figure"),
        ('journeys?measure=drop-offs&figure=["steps","0"]', "no such figure"),
        ('journeys?measure=loops&figure=["loop","detour"]', ""),
    ],
)
def test_what_is_not_there_is_said(server: Server, app: str, path: str, says: str) -> None:
    answer = server.client.get(f"/api/apps/{app}/{path}")
    if says:
        assert (answer.status_code, says in answer.json()["title"]) == (404, True), answer.text
    else:
        assert answer.json()["total"] == 0
