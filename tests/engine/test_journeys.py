"""Finding journeys and laying them open, held against the truth and plain Python."""

from __future__ import annotations

import csv
import json
from collections import Counter
from collections.abc import Callable
from datetime import datetime
from typing import Any, get_args

import numpy as np
import pytest

from mossy_trail.core.model.scope import Scope
from mossy_trail.core.model.steps import EXITS
from mossy_trail.engine import journeys, loops
from mossy_trail.engine.export import steps_table
from mossy_trail.engine.journeys import Sort, Wanted
from mossy_trail.engine.scoped import scope_mask
from mossy_trail.engine.study import Study
from tests.conftest import Demo


@pytest.fixture(scope="module")
def listed(study: Study) -> list[dict[str, Any]]:
    found = journeys.find(study, scope_mask(study, Scope()))
    return [journeys.summary(study, study.index.ref(int(p))) for p in found.positions]


def by_session(demo: Demo) -> dict[str, list[dict[str, str]]]:
    sessions: dict[str, list[dict[str, str]]] = {}
    for step in demo.truth:
        sessions.setdefault(step["session"], []).append(step)
    return sessions


def test_the_list_tells_of_every_session_what_is_true(
    listed: list[dict[str, Any]], demo: Demo
) -> None:
    true = by_session(demo)
    assert {j["session"] for j in listed} == set(true)
    for journey in listed:
        steps = true[journey["session"]]
        assert journey["steps"] == len(steps)
        assert journey["user"] == steps[0]["user"]
        assert journey["deepest"] == max(int(step["depth"]) for step in steps)
        if len(steps) <= journeys.MINIATURE:
            assert journey["depths"] == [int(step["depth"]) for step in steps]
            grounds = [step["tab"] or step["region"] for step in steps]
            assert journey["grounds"] == grounds
        else:
            assert len(journey["depths"]) == journeys.MINIATURE


@pytest.mark.parametrize("sort", get_args(Sort))
def test_sorting(study: Study, sort: Sort) -> None:
    found = journeys.find(study, scope_mask(study, Scope()), Wanted(), sort)
    rows = [journeys.listed(study, int(p), sort) for p in found.positions]
    keys: dict[str, Callable[[dict[str, Any]], Any]] = {
        "newest": lambda j: -j["start"],
        "oldest": lambda j: j["start"],
        "longest": lambda j: -j["steps"],
        "deepest": lambda j: -j["deepest"],
        "slowest": lambda j: -j["duration"],
    }
    own = {sort: lambda j: -1 if j["sorted_by"] is None else j["sorted_by"]}
    values = [keys[sort](row) if sort in keys else -own[sort](row) for row in rows]
    assert values == sorted(values)
    assert len(set(values)) > 3
    assert len(rows) == found.count == len(study.index.start)


def test_what_lists_are_sorted_by_is_what_a_plain_recount_finds(study: Study, demo: Demo) -> None:
    steps: dict[str, list[dict[str, Any]]] = {}
    for part in study.parts:
        for step in steps_table(part).to_pylist():
            steps.setdefault(step["session"], []).append(step)
    stays = {
        session: max((s["dwell_ms"] for s in own if s["dwell_ms"] is not None), default=None)
        for session, own in steps.items()
    }
    tries: Counter[str] = Counter()
    starts: dict[str, list[int]] = {}
    for row in csv.DictReader(demo.csv.open()):
        account = row["event"] in ("sign_in", "sign_up")
        tries[row["session"]] += account and row["outcome"] == "failed"
        if row["event"] == "app_start":
            time = round(datetime.fromisoformat(row["time"]).timestamp() * 1000)
            starts.setdefault(row["session"], []).append(time)
    took = {}
    for session, own in steps.items():
        past = [s["time"].timestamp() * 1000 for s in own if s["screen"] != "Splash"]
        if len(starts.get(session, ())) == 1 and past:
            took[session] = round(past[0] - starts[session][0])
    assert sum(map(bool, tries.values())) > 20
    assert len(took) > 1000

    def told(sort: Sort) -> dict[str, int | None]:
        found = (journeys.listed(study, p, sort) for p in range(len(study.index.start)))
        return {one["session"]: one["sorted_by"] for one in found}

    assert told("longest_stay") == stays
    assert told("most_tries") == {session: tries[session] for session in steps}
    slowest = told("slowest_start")
    assert {session: slowest[session] for session in took} == took
    turns = told("most_turns")
    for p in range(0, len(study.index.start), 7):
        ref = study.index.ref(p)
        rounds = loops.of_journey(study, ref)
        session = study.terms["session"][study.index.session[p]]
        assert turns[session] == max((one.turns for one in rounds), default=0)


def began_by_link(steps: list[dict[str, Any]]) -> bool:
    """In the demo a gate stands first after a splash only if a link led there."""
    first = next((step["move"] for step in steps if step["screen"] != "Splash"), "")
    return first in ("link", "redirect")


@pytest.mark.parametrize(
    "wanted",
    [
        Wanted(move="redirect"),
        Wanted(start="link"),
        Wanted(fewest=20, most=25),
        Wanted("receipt", move="replace", fewest=5),
        Wanted(tab="Passes", depth=3),
    ],
    ids=str,
)
def test_each_wish_narrows_to_the_true_sessions(study: Study, demo: Demo, wanted: Wanted) -> None:
    found = journeys.find(study, scope_mask(study, Scope()), wanted)
    sessions = {study.terms["session"][study.index.session[p]] for p in found.positions}
    true = {
        session
        for session, steps in by_session(demo).items()
        if wanted.fewest <= len(steps) <= (wanted.most or len(steps))
        and (not wanted.move or any(step["move"] == wanted.move for step in steps))
        and (not wanted.start or began_by_link(steps))
        and (not wanted.tab or steps[-1]["tab"] == wanted.tab)
        and max(int(step["depth"]) for step in steps) >= wanted.depth
        and any(wanted.search in step["screen"].casefold() for step in steps)
    }
    assert sessions == true
    assert sessions


def test_marks_starts_and_ends_divide_the_journeys(
    study: Study, listed: list[dict[str, Any]]
) -> None:
    def count(**wish: str) -> int:
        return journeys.find(study, scope_mask(study, Scope()), Wanted(**wish)).count  # type: ignore[arg-type]

    assert count(start="cold") + count(start="warm") == len(listed)
    assert sum(count(exit=word) for word in EXITS) == len(listed)
    for mark in ("ping_pong", "gate_loop", "piled_up"):
        assert count(mark=mark) == sum(mark in journey["marks"] for journey in listed) > 0


@pytest.mark.parametrize("text", ["receipt", "RateSheet", " 0001 ", ".3", "no such thing"])
def test_search_looks_at_users_sessions_and_screens(study: Study, demo: Demo, text: str) -> None:
    found = journeys.find(study, scope_mask(study, Scope()), Wanted(text))
    sessions = {
        study.terms["session"][study.index.session[position]] for position in found.positions
    }
    sought = text.strip().casefold()
    true = {
        session
        for session, steps in by_session(demo).items()
        if any(sought in step[key].casefold() for step in steps for key in ("user", "session"))
        or any(sought in step["screen"].casefold() for step in steps)
    }
    assert sessions == true


def test_a_key_names_one_journey_for_good(study: Study, listed: list[dict[str, Any]]) -> None:
    assert len({journey["key"] for journey in listed}) == len(listed)
    for journey in listed[::97]:
        ref = journeys.by_key(study, journey["key"])
        assert journeys.summary(study, ref) == journey
    for key in ("", "~", "x~u", "1~nobody", "9" * 30 + "~u", "-~u", "--1~u", "²~u"):
        with pytest.raises(KeyError):
            journeys.by_key(study, key)


def test_the_pile_is_the_phones_stack(study: Study, demo: Demo) -> None:
    """Walk the truth with plain lists: the pile must be what they hold, and so must rests."""
    sessions = by_session(demo)
    longest = sorted(sessions, key=lambda s: -len(sessions[s]))[:25]
    for session in longest:
        steps = sessions[session]
        position = study.terms["session"].index(session)
        (where,) = np.flatnonzero(study.index.session == position)
        ref = study.index.ref(int(where))
        detail = journeys.detail(study, ref)
        assert [s["screen"] for s in detail["trail"]] == [s["screen"] for s in steps]
        assert detail["exit"] in EXITS
        for number, step in enumerate(steps, 1):
            pile = journeys.pile(study, ref, number)
            top, *rest = pile["stack"]
            assert top["screen"] == step["screen"]
            assert (rest[0]["screen"] if rest else "") == step["below"]
            same_region = [s for s in pile["stack"] if s["region"] == step["region"]]
            own = [s for s in same_region if s["tab"] == (step["tab"] or None)]
            assert len(own) == int(step["depth"])
            shown = {s["tab"] for s in pile["stack"] if s["tab"]}
            assert not shown & {resting["tab"] for resting in pile["resting"]}
            seen = {s["tab"] for s in steps[:number] if s["tab"]}
            assert seen - shown <= {resting["tab"] for resting in pile["resting"]} | shown


def test_times_and_properties_of_a_journey(study: Study, listed: list[dict[str, Any]]) -> None:
    for journey in listed[::211]:
        detail = journeys.detail(study, journeys.by_key(study, journey["key"]))
        assert set(detail["properties"]) == {"version", "platform", "crew"}
        trail = detail["trail"]
        assert trail[-1]["dwell_ms"] is None
        assert trail[-1]["exit"] == detail["exit"]
        for step, after in zip(trail, trail[1:], strict=False):
            assert step["until"] == after["time"] >= step["time"] >= step["asked_at"]
            assert 0 <= step["dwell_ms"] <= after["time"] - step["time"]
            assert step["exit"] is None
        rows = [
            (row["file"], row["line"])
            for number in range(1, len(trail) + 1)
            for row in journeys.raw_places(study, journeys.by_key(study, journey["key"]), number)
        ]
        assert len(set(rows)) == len(rows)
        json.dumps(detail)
