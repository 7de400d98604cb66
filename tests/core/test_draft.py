"""A map drafted from a log alone is the app's own, or says where it is unsure."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
import yaml

from mossy_trail.core.inference.draft import Draft, draft
from mossy_trail.core.model.log import split
from mossy_trail.demo.load import MAP
from mossy_trail.demo.noise import roughen
from mossy_trail.demo.simulator import Demo as Simulated
from mossy_trail.demo.simulator import simulate, write_json_lines
from mossy_trail.intake.app_map_file import map_of, parse_map
from mossy_trail.intake.reader import read_files

TRUE = parse_map(MAP.read_text())
Rows = list[dict[str, Any]]


def drafted(rows: Rows, folder: Path) -> Draft:
    log = folder / "log.jsonl"
    write_json_lines(rows, log)
    return draft(split(read_files([log]).log, 2))


@pytest.fixture(scope="module")
def simulated() -> Simulated:
    return simulate(40_000, 4)


def place(document: dict[str, Any], screen: dict[str, Any]) -> tuple[str, list[str]]:
    """A screen's role, and the tabs it lives in."""
    roots = [tab["name"] for tab in document.get("tabs", ()) if tab.get("root") == screen["name"]]
    tabs = roots or screen.get("tabs") or [tab for tab in [screen.get("tab")] if tab]
    return screen.get("role", "content"), sorted(tabs)


@pytest.mark.parametrize(
    ("roughened", "rules_told"),
    [
        (lambda rows: rows, 3),
        (lambda rows: roughen(rows, 3)[0], 3),
        (lambda rows: [row for row in rows if row["event"] == "screen_view"], 1),
    ],
    ids=["clean", "noisy", "views alone"],
)
def test_the_demo_is_drafted_as_it_is(
    roughened: Callable[[Rows], Rows], rules_told: int, simulated: Simulated, tmp_path: Path
) -> None:
    made = drafted(roughened(list(simulated.rows)), tmp_path)
    own = {screen["name"]: place(made.document, screen) for screen in made.document["screens"]}
    assert own == {screen["name"]: place(TRUE, screen) for screen in TRUE["screens"]}
    told = "switch_tab" in {row["event"] for row in roughened(list(simulated.rows))}
    assert {(tab["name"], tab.get("root", tab.get("on"))) for tab in made.document["tabs"]} == {
        (tab["name"], tab.get("root", tab.get("on")))
        for tab in TRUE["tabs"]
        if told or "root" in tab
    }
    assert made.document["funnels"] == TRUE["funnels"]
    assert map_of(parse_map(yaml.safe_dump(made.document))), "it is a map that can be used"
    assert all(guess.why for guess in made.guesses)
    links = {(link["pattern"], link["screen"]) for link in made.document.get("links", ())}
    history = made.document.get("history", {})
    assert all(map_of(TRUE).history[rule] == setting for rule, setting in history.items())
    assert len(history) >= rules_told
    assert links in (set(), {(link["pattern"], link["screen"]) for link in TRUE["links"]})


@pytest.mark.parametrize("rows", [0, 1, 2])
def test_next_to_nothing_makes_a_map_without_a_sure_guess(rows: int, tmp_path: Path) -> None:
    odd = ["<script>alert(1)</script>", "🚢 שלום"]
    log: Rows = [
        {"time": 1777888800000 + i, "user": "u", "event": "screen_view", "screen": odd[i]}
        for i in range(rows)
    ]
    made = draft([]) if not rows else drafted(log, tmp_path)
    assert {screen["name"] for screen in made.document["screens"]} == set(odd[:rows])
    assert map_of(parse_map(yaml.safe_dump(made.document)))
    assert not any(guess.sure for guess in made.guesses)


def test_names_that_differ_in_case_and_spaces_are_one_screen(tmp_path: Path) -> None:
    names = ["Home", "Home", "home", "HOME ", "Ho-me", "House"]
    rows: Rows = [
        {"time": 1777888800000 + i * 5000, "user": "u", "event": "screen_view", "screen": name}
        for i, name in enumerate(names)
    ]
    screens = drafted(rows, tmp_path).document["screens"]
    assert {s["name"]: s.get("aliases") for s in screens} == {
        "Home": ["HOME ", "Ho-me", "home"],
        "House": None,
    }


@pytest.mark.parametrize("rows", [1, 200])
def test_a_log_that_names_no_screen_breaks_nothing(
    rows: int, simulated: Simulated, tmp_path: Path
) -> None:
    some = list(simulated.rows)[:rows]
    bare = [{name: row[name] for name in ("time", "user", "event")} for row in some]
    assert drafted(bare, tmp_path).document["screens"] == []
