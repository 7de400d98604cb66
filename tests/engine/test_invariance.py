"""What no figure may depend on, and what all must follow: asked of every measure at once."""

from __future__ import annotations

import csv
import json
import random
from collections import Counter, defaultdict
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import fields, is_dataclass, replace
from datetime import datetime, timedelta
from pathlib import Path
from threading import Event, Semaphore
from typing import Any

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st
from numpy.typing import NDArray

from mossy_trail.core.model.app_map import AppMap
from mossy_trail.core.model.installs import Installs
from mossy_trail.core.model.log import HOUR, Log, empty_log, split
from mossy_trail.core.model.people import people
from mossy_trail.core.model.scope import Scope
from mossy_trail.core.model.steps import EXITS, MARK, Steps
from mossy_trail.core.replay.ends import Ends
from mossy_trail.core.replay.marks import ways
from mossy_trail.core.replay.replay import replay
from mossy_trail.core.stats.intervals import Share
from mossy_trail.demo.simulator import simulate, write
from mossy_trail.engine import export, funnel, health, tabs
from mossy_trail.engine.celled import Count
from mossy_trail.engine.measures import behind, measured, shares
from mossy_trail.engine.registry import MEASURES, NoParams
from mossy_trail.engine.shelf import Shelf
from mossy_trail.engine.study import LARGE_ENOUGH, Study
from mossy_trail.engine.workers import threads
from mossy_trail.intake.reader import read_files
from mossy_trail.store.folder import Folder, LogParts, write_parts
from tests.campaign import examples

Rows = list[dict[str, str]]
IOS = json.dumps({"property": "platform", "values": ["ios"]})
SCOPES = [Scope(), Scope(unit="users", segment=IOS)]


@pytest.fixture(scope="module")
def rows(tmp_path_factory: pytest.TempPathFactory) -> Rows:
    path, *_ = write(simulate(9_000, 23), tmp_path_factory.mktemp("invariance"))
    with path.open() as file:
        return list(csv.DictReader(file))


def log_of(*files: tuple[Path, Rows]) -> Log:
    for path, rows in files:
        with path.open("w", newline="") as file:
            writer = csv.DictWriter(file, list(rows[0]))
            writer.writeheader()
            writer.writerows(rows)
    return read_files([path for path, _ in files]).log


def study_of(
    app_map: AppMap, parts: int, *files: tuple[Path, Rows], shelf: Shelf | None = None
) -> Study:
    log = log_of(*files)
    installs, whole = Installs.of(log), people(log)
    split_up: Sequence[Log] = split(whole, parts)
    if shelf:
        folder = shelf.folder.under("log")
        write_parts(folder, split_up, whole.terms)
        split_up = LogParts(folder)
    return Study(split_up, app_map, shelf=shelf, installs=installs)


def params_of(name: str, study: Study) -> NoParams:
    """What a measure is asked with, so that all that it tells is told."""
    known = {
        "goal": "Receipt",
        "spec": json.dumps(funnel.onboarding(study.app_map)),
        "pattern": "SailingsBoard .. [event=sign_in:failed] . within 9min [tab=Passes]",
    }
    return MEASURES[name].params_of(known)


def figures(study: Study, scope: Scope) -> dict[str, Any]:
    return {
        name: measured(study, scope, name, params_of(name, study), by="version").as_dict()
        for name in MEASURES
    }


def leaves(told: Any, path: str = "") -> Iterator[tuple[str, Any]]:
    """Every value of figures by the way that leads there; what is listed is known by its name."""
    if isinstance(told, dict):
        for key, value in told.items():
            yield from leaves(value, f"{path}.{key}")
    elif isinstance(told, list):
        for i, value in enumerate(told):
            yield from leaves(value, f"{path}[{name_of(value) or i}]")
    else:
        yield path, round(told, 6) if isinstance(told, float) else told


def name_of(listed: Any) -> str | None:
    if not isinstance(listed, dict):
        return None
    figure = listed.get("count")
    if isinstance(figure, dict):
        return str(figure.get("figure"))
    return next((str(listed[key]) for key in ("name", "screen", "value") if key in listed), None)


def by_user(rows: Rows) -> dict[str, Rows]:
    found: dict[str, Rows] = defaultdict(list)
    for row in rows:
        found[row["user"]].append(row)
    return found


def interleaved(rows: Rows) -> Rows:
    """Each user's rows in their order, those of all users mixed."""
    dice, left = random.Random(2), {user: iter(own) for user, own in by_user(rows).items()}
    order = [row["user"] for row in rows]
    dice.shuffle(order)
    return [next(left[user]) for user in order]


def renamed(rows: Rows) -> Rows:
    return [
        {**row, "user": f"{hash_of(row['user'])}", "session": f"x{row['session']}"} for row in rows
    ]


def hash_of(user: str) -> int:
    return random.Random(user).getrandbits(60)


def later(rows: Rows) -> Rows:
    def moved(time: str) -> str:
        return (datetime.fromisoformat(time) + timedelta(weeks=2)).isoformat()

    return [{**row, "time": moved(row["time"])} for row in rows]


def with_accounts(rows: Rows) -> Rows:
    """Half of the users sign in, two on an install, and one on two of them; each time the rows
    before are then of who did."""
    told: Rows = []
    for user, own in by_user(rows).items():
        number = int(hash_of(user))
        signs = {len(own) // 2: f"account {number % 40}", len(own) * 5 // 6: f"second {number % 9}"}
        told += [
            {**row, "account": signs.get(i, "") if number % 2 else ""} for i, row in enumerate(own)
        ]
    return sorted(told, key=lambda row: row["time"])


def as_of_others(row: dict[str, str]) -> dict[str, str]:
    """Of a new user, who was on a new screen and platform."""
    screen = row["screen"] and f"New {row['screen']}"
    own = {"user": f"new {row['user']}", "screen": screen, "platform": "harmony", "account": ""}
    return {name: own.get(name, value) for name, value in row.items()}


@pytest.mark.parametrize("shelved", [False, True], ids=["in memory", "in files"])
@pytest.mark.parametrize(
    ("changed", "goes", "large_enough"),
    [(list, 1, LARGE_ENOUGH), (list, 4, LARGE_ENOUGH), (list, 4, 1), (with_accounts, 4, 1)],
    ids=["at once", "bit by bit", "each a part", "accounts"],
)
def test_rows_that_arrive_later_are_as_if_they_had_been_there(
    rows: Rows,
    app_map: AppMap,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    changed: Callable[[Rows], Rows],
    goes: int,
    large_enough: int,
    shelved: bool,
) -> None:
    """In one go or several; some of users who were there, some of new ones; and where what came
    before is a part that users leave."""
    monkeypatch.setattr("mossy_trail.engine.study.LARGE_ENOUGH", large_enough)
    rows = changed(rows)
    cut = len(rows) * 2 // 3
    late = sorted(rows[cut:], key=lambda row: row["time"]) + [as_of_others(r) for r in rows[:200]]
    size = -(-len(late) // goes)
    pieces = [late[i : i + size] for i in range(0, len(late), size)]
    files = [(tmp_path / f"{i}.csv", own) for i, own in enumerate([rows[:cut], *pieces])]
    whole = study_of(app_map, 3, *files)
    shelf = Shelf(Folder(tmp_path / "shelf"), threads, room=0) if shelved else None
    study: Study | None = study_of(app_map, 3, files[0], shelf=shelf)
    assert study
    assert study.shelved == shelved
    before = dict(leaves(figures(study, SCOPES[1])))
    study = study.grown(empty_log(), study.read_at + HOUR, "an hour later")
    assert study
    assert study.rows_lately == 0
    assert dict(leaves(figures(study, SCOPES[1]))) == before
    for path, _ in files[1:]:
        study = study.grown(read_files([path]).log, study.read_at, "grown")
        assert study
        assert 0 < study.rows_lately < study.rows < whole.rows + 1
        assert shelved or knows_its_ends(study)
    for scope in SCOPES:
        assert dict(leaves(figures(whole, scope))) == dict(leaves(figures(study, scope)))
    assert dict(leaves(health.measure(whole))) == dict(leaves(health.measure(study)))
    assert steps_of(whole) == steps_of(study)
    assert dict(leaves(figures(study, SCOPES[1]))) != before


def knows_its_ends(study: Study) -> bool:
    """How often each screen was gone on from, by which dead ends are told, is as counted anew."""
    platform = study.property("platform")
    counted = sum(ways(steps, platform) for steps in study.parts)
    end = Ends.together(study._ends)
    return end is not None and np.array_equal(end.ways, counted)


@pytest.mark.parametrize("shelved", [False, True], ids=["in memory", "in files"])
def test_journeys_that_an_earlier_end_had_cut_end_as_all_rows_tell(
    app_map: AppMap, tmp_path: Path, shelved: bool
) -> None:
    """At first all are cut; then most went silent at a dead end, until one had gone on."""

    def came(first: int, users: int, minute: int, *screens: str) -> Rows:
        start = datetime.fromisoformat("2026-05-04T10:00:00Z") + timedelta(minutes=minute)
        return [
            {
                "user": f"user {user}",
                "time": (start + timedelta(seconds=user, minutes=step)).isoformat(),
                "event": "screen_view" if step else "app_start",
                "screen": screen,
                "platform": "ios",
            }
            for user in range(first, first + users)
            for step, screen in enumerate(("", *screens))
        ]

    pieces = [
        came(0, 60, 0, "SailingsBoard", "SailingDetail"),
        came(100, 1, 30, "SailingsBoard"),
        came(101, 1, 90, "SailingsBoard"),
        came(102, 40, 91, "PassWallet", "SailingDetail"),
        came(200, 1, 200, "SailingDetail", "PassWallet"),
    ]
    files = [(tmp_path / f"{number}.csv", own) for number, own in enumerate(pieces)]
    shelf = Shelf(Folder(tmp_path / "shelf"), threads, room=0) if shelved else None
    study: Study | None = study_of(app_map, 3, files[0], shelf=shelf)
    told = []
    for came_by, (path, _) in enumerate(files[1:], 2):
        whole = study_of(app_map, 3, *files[:came_by])
        assert study
        study = study.grown(read_files([path]).log, study.read_at, "grown")
        assert study
        assert ends_of(study) == ends_of(whole)
        told.append(Counter(end for end, _ in ends_of(study).values()))
    assert [one["cut"] for one in told] == [20, 1, 41, 1]
    assert [one["dead end"] for one in told] == [41, 60, 60, 0]


def ends_of(study: Study) -> dict[str, tuple[str, list[int]]]:
    """How each user's only journey ended, and the marks of its steps."""
    found = {}
    for steps in study.parts:
        for number, user in enumerate(steps.journeys.user.tolist()):
            dead = steps.journeys.marks[number] & MARK["dead_end"]
            own = steps.steps.marks[steps.steps.journey == number].tolist()
            end = "dead end" if dead else EXITS[steps.journeys.exit[number]]
            found[steps.log.terms["user"][user]] = end, own
    return found


@pytest.mark.parametrize("shelved", [False, True], ids=["in memory", "in files"])
def test_neither_questions_nor_live_rows_wait_until_another_log_has_been_replayed(
    rows: Rows, app_map: AppMap, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, shelved: bool
) -> None:
    held, go_on, both = Semaphore(0), Event(), iter((True, True))
    late = (tmp_path / "late.csv", rows[-200:])

    def made(name: str, own: Rows) -> Study:
        shelf = Shelf(Folder(tmp_path / f"shelf {name}"), threads, room=0) if shelved else None
        return study_of(app_map, 3, (tmp_path / f"{name}.csv", own), shelf=shelf)

    def slow(*given: Any, **named: Any) -> Steps:
        if next(both, False):
            held.release()
            assert go_on.wait(60), "it was asked, and grew, before"
        return replay(*given, **named)

    study = made("one", rows[:-200])
    tail = log_of(late)
    monkeypatch.setattr(f"mossy_trail.engine.{'shelf' if shelved else 'study'}.replay", slow)
    with ThreadPoolExecutor(1) as pool:
        other = pool.submit(made, "other", rows)
        assert held.acquire(timeout=60)
        assert held.acquire(timeout=60), "by both threads"
        before = dict(leaves(figures(study, SCOPES[0])))
        grown = study.grown(tail, study.read_at, "grown")
        assert grown
        found = dict(leaves(figures(grown, SCOPES[0])))
        assert not other.done()
        go_on.set()
        assert dict(leaves(figures(other.result(), SCOPES[0]))) == found != before


def test_the_journeys_of_a_figure_are_told_by_the_labels_that_counted_them(
    rows: Rows, app_map: AppMap, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A part is labelled once for a scope, whatever is asked of it then."""
    study, parts = study_of(app_map, 3, (tmp_path / "log.csv", rows)), []
    label = tabs.label

    def noted(steps: Steps, inside: NDArray[np.bool_]) -> Any:
        parts.append(steps)
        return label(steps, inside)

    monkeypatch.setattr(tabs, "label", noted)
    for scope in SCOPES:
        told = tabs.measure(study, scope)
        for own in told.tabs:
            found = behind(study, scope, "tabs", own.visits.figure)
            assert found.sum() == own.visits.journeys
        assert any(0 < own.visits.journeys < told.in_scope for own in told.tabs)
    assert Counter(map(id, parts)) == dict.fromkeys(map(id, study.parts), len(SCOPES))


@pytest.mark.parametrize("shelved", [False, True], ids=["in memory", "in files"])
def test_who_opened_a_link_whose_params_only_later_rows_have_is_replayed_anew(
    app_map: AppMap, tmp_path: Path, shelved: bool
) -> None:
    """So is who was on a route, when later rows tell params that it has not."""
    linked = {"event": "open_link", "uri": "skerry://sailing/20"}
    told = [
        [{"event": "app_start"}, linked, {"screen": "SailingDetail"}, {"screen": "/piers/7"}],
        [{"screen": "SailingDetail", "params": '{"sailing": "20"}'}, {"screen": "/piers/9"}],
        [{"screen": "SailingDetail", "params": '{"pier": "9"}'}, linked, {"screen": "/piers/8"}],
    ]
    pieces = [
        [
            {
                **dict.fromkeys(("event", "uri", "params", "screen"), ""),
                "time": f"2026-05-04T1{number}:00:0{i}Z",
                "user": f"user {number}",
                "platform": "ios",
                **row,
            }
            for i, row in enumerate(own)
        ]
        for number, own in enumerate(told)
    ]
    files = [(tmp_path / f"{number}.csv", own) for number, own in enumerate(pieces)]
    screens = [
        replace(one, routes=("/piers/{pier}",)) if one.name == "PierDetail" else one
        for one in app_map.screens
    ]
    routed = replace(app_map, screens=tuple(screens))
    whole = study_of(routed, 1, *files)
    shelf = Shelf(Folder(tmp_path / "shelf"), threads, room=0) if shelved else None
    study: Study | None = study_of(routed, 1, files[0], shelf=shelf)
    for path, _ in files[1:]:
        assert study
        study = study.grown(read_files([path]).log, study.read_at, "grown")
    assert study
    assert study.rows_lately == whole.rows
    assert steps_of(whole) == steps_of(study)
    assert '{"pier": "7"}' in [step["params"] for step in steps_of(study)]


def steps_of(study: Study) -> list[dict[str, Any]]:
    everywhere = np.ones(len(study.index.start), bool)
    table = pa.concat_tables(export.steps_of(study, everywhere)).drop_columns(["rows"])
    found: list[dict[str, Any]] = table.to_pylist()
    return sorted(found, key=lambda one: (one["user"], one["time"], one["session"], one["step"]))


@pytest.mark.parametrize("scope", SCOPES, ids=["all", "users of ios"])
@pytest.mark.parametrize(
    ("changed", "parts"),
    [(interleaved, 1), (renamed, 3), (later, 5)],
    ids=["interleaved", "users renamed", "two weeks later"],
)
def test_figures_are_the_same(
    rows: Rows,
    app_map: AppMap,
    tmp_path: Path,
    changed: Callable[[Rows], Rows],
    parts: int,
    scope: Scope,
) -> None:
    plain = study_of(app_map, 2, (tmp_path / "a.csv", rows))
    other = study_of(app_map, parts, (tmp_path / "b.csv", changed(rows)))
    assert dict(leaves(figures(plain, scope))) == dict(leaves(figures(other, scope)))


@pytest.mark.parametrize("scope", SCOPES, ids=["all", "users of ios"])
def test_figures_of_two_files_are_those_of_both(
    rows: Rows, app_map: AppMap, tmp_path: Path, scope: Scope
) -> None:
    half = len(rows) // 2
    plain = study_of(app_map, 2, (tmp_path / "a.csv", rows))
    both = study_of(
        app_map, 2, (tmp_path / "b.csv", rows[:half]), (tmp_path / "c.csv", rows[half:])
    )
    assert dict(leaves(figures(plain, scope))) == dict(leaves(figures(both, scope)))


COUNTS = ("times", "journeys", "users", "count", "of", "in_scope", "ended", "starts", "begun")


@pytest.mark.parametrize("scope", SCOPES, ids=["all", "users of ios"])
def test_as_many_users_again_double_every_count(
    rows: Rows, app_map: AppMap, tmp_path: Path, scope: Scope
) -> None:
    plain = study_of(app_map, 2, (tmp_path / "a.csv", rows))
    double = study_of(app_map, 3, (tmp_path / "b.csv", rows), (tmp_path / "c.csv", renamed(rows)))
    once, twice = (dict(leaves(figures(study, scope))) for study in (plain, double))
    # A dead end is one only from so many visits on.
    counted = {p for p in once if p.rsplit(".", 1)[-1] in COUNTS and ".dead_end." not in p}
    assert len(counted) > 1000
    assert {path: 2 * once[path] for path in counted} == {path: twice[path] for path in counted}
    for path in ("drop-offs.whole.goal_chance", "drop-offs.whole.goal"):
        assert once[f".{path}"] == twice[f".{path}"]


@examples(3)
@given(share=st.sampled_from([1.0, 0.5, 0.03]), first=st.booleans(), seed=st.integers(0, 99))
def test_what_is_brought_in_twice_moves_no_figure(
    rows: Rows,
    app_map: AppMap,
    tmp_path_factory: pytest.TempPathFactory,
    share: float,
    first: bool,
    seed: int,
) -> None:
    folder, dice = tmp_path_factory.mktemp("twice"), random.Random(seed)
    some = [row for row in rows if dice.random() < share]
    files = [(folder / "a.csv", rows), (folder / "b.csv", some)]
    once = study_of(app_map, 2, files[0])
    twice = study_of(app_map, 3, *(reversed(files) if first else files))
    for scope in SCOPES:
        assert dict(leaves(figures(twice, scope))) == dict(leaves(figures(once, scope)))


def sums(told: Any) -> dict[str, tuple[int, ...]]:
    """The numbers of figures that groups share out, by what they are of."""
    found: dict[str, tuple[int, ...]] = {key: (one.count,) for key, one in shares(told)}
    for count in counts_in(told):
        found[count.figure] = (count.times, count.journeys)
    return found


def counts_in(told: Any) -> Iterator[Count]:
    if isinstance(told, Count):
        yield told
    elif is_dataclass(told) and not isinstance(told, Share):
        for one in fields(told):
            yield from counts_in(getattr(told, one.name))
    elif isinstance(told, (dict, list)):
        for value in told.values() if isinstance(told, dict) else told:
            yield from counts_in(value)


@pytest.mark.parametrize("name", MEASURES)
@pytest.mark.parametrize("unit", ["sessions", "users"])
@pytest.mark.parametrize(("by", "over"), [("version", ""), ("platform", ""), ("", "week")])
def test_groups_add_up_to_the_whole(study: Study, name: str, unit: Any, by: str, over: str) -> None:
    if over and (unit == "users" or name == "onboarding"):
        pytest.skip("a user is counted in each week")
    found = measured(study, Scope(unit=unit), name, params_of(name, study), by, over)
    whole, groups = sums(found.whole), [sums(group.figures) for group in found.groups]
    assert len(groups) > 1
    assert any(any(own) for own in whole.values())
    # Of these only the most frequent ones are told.
    rare: tuple[str, ...] = ('["from"', '["last"')
    if name == "loops" and any(group.figures.loops_left_out for group in found.groups):
        rare = ("loops/", '["loop"', '["ended"', '["beyond"')
    for key, own in whole.items():
        if key.startswith(rare):
            continue
        parts = [group.get(key, (0,) * len(own)) for group in groups]
        assert tuple(map(sum, zip(*parts, strict=True))) == own, key
