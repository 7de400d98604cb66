"""What no figure may depend on, and what all must follow: asked of every measure at once."""

from __future__ import annotations

import csv
import json
import random
from collections import defaultdict
from collections.abc import Callable, Iterator
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mossy_trail.core.app_map import AppMap
from mossy_trail.core.log import split
from mossy_trail.core.scope import Scope
from mossy_trail.demo.simulator import simulate, write
from mossy_trail.engine import (
    dropoffs,
    funnel,
    gates,
    links,
    loops,
    onboarding,
    sign_in,
    startup,
    tabs,
)
from mossy_trail.engine.study import Study
from mossy_trail.intake.reader import read_files
from tests.campaign import examples

Rows = list[dict[str, str]]
IOS = json.dumps({"property": "platform", "values": ["ios"]})
SCOPES = [Scope(), Scope(unit="users", segment=IOS)]


@pytest.fixture(scope="module")
def rows(tmp_path_factory: pytest.TempPathFactory) -> Rows:
    path, *_ = write(simulate(9_000, 23), tmp_path_factory.mktemp("invariance"))
    with path.open() as file:
        return list(csv.DictReader(file))


def study_of(app_map: AppMap, parts: int, *files: tuple[Path, Rows]) -> Study:
    for path, rows in files:
        with path.open("w", newline="") as file:
            writer = csv.DictWriter(file, list(rows[0]))
            writer.writeheader()
            writer.writerows(rows)
    return Study(split(read_files([path for path, _ in files]).log, parts), app_map)


def figures(study: Study, scope: Scope) -> dict[str, Any]:
    asked = funnel.Asked.of(funnel.onboarding(study.app_map) or {})
    return {
        "startup": startup.measure(study, scope, by="version").as_dict(),
        "onboarding": onboarding.measure(study, scope).as_dict(),
        "sign-in": sign_in.measure(study, scope).as_dict(),
        "gates": gates.measure(study, scope).as_dict(),
        "funnel": funnel.measure(study, scope, asked, "platform").as_dict(),
        "tabs": tabs.measure(study, scope).as_dict(),
        "loops": loops.measure(study, scope).as_dict(),
        "links": links.measure(study, scope, "Receipt").as_dict(),
        "drop-offs": dropoffs.measure(study, scope, "Receipt").as_dict(),
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
    for path in ("drop-offs.goal_chance", "drop-offs.goal"):
        assert once[f".{path}"] == twice[f".{path}"]


@examples(6)
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
