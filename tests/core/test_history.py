"""The history rules of an app are found from its moves, and what cannot be told is said."""

from __future__ import annotations

import json
from dataclasses import asdict
from pathlib import Path

import pytest
from typer.testing import CliRunner

from mossy_trail.cli import cli
from mossy_trail.core.inference.history import find_history
from mossy_trail.core.model.app_map import HISTORY
from mossy_trail.core.model.log import split
from mossy_trail.core.model.properties import property_of
from mossy_trail.demo.load import MAP
from mossy_trail.demo.noise import write_noisy
from mossy_trail.demo.phone import Rules
from mossy_trail.demo.simulator import Habits, simulate, write_json_lines
from mossy_trail.intake.reader import read_files
from tests.core.test_replay import THE_MAP

RULES = (
    Rules("reset", "first_tab", "to_root", "alone", "parents", "restore", "kept", "here"),
    Rules("keep", "bar_order", "stay", "parents", "alone", "fresh", "cleared", "there"),
    Rules("shared", "exit", "to_root", "alone", "over", "restore", "kept", "there"),
)
UNTOLD = {RULES[0]: (), RULES[1]: (), RULES[2]: ("across",)}
"""Beside ways back at a root: one stack for all has no other to go across to."""


@pytest.mark.parametrize("rules", RULES)
def test_the_rules_of_any_app_are_found(rules: Rules, tmp_path: Path) -> None:
    log = tmp_path / "log.jsonl"
    app = simulate(40_000, 5, rules, Habits(crossing=True))
    write_json_lines(app.rows, log)
    found = find_history(split(read_files([log]).log, 2), THE_MAP)
    true = asdict(rules)
    assert {rule: found.history[rule] for rule in HISTORY if found.told[rule]} == {
        rule: true[rule] for rule in HISTORY if found.told[rule]
    }
    untold = {rule for rule in HISTORY if not found.told[rule]}
    assert untold <= {"root_back", "outside", *UNTOLD[rules]}, "few go back at a root"


def test_noise_and_versions_do_not_mislead(tmp_path: Path) -> None:
    log = write_noisy(simulate(25_000, 3), tmp_path, 3)[0]
    args = ["history", str(log), "--map", str(MAP), "--by", "version", "--json"]
    found = json.loads(CliRunner().invoke(cli, args).stdout)
    assert list(found) == ["", "3.0", "3.1", "3.2"]
    assert all(one["history"] == asdict(Rules()) for one in found.values())
    assert found[""]["moves"] > sum(found[v]["moves"] for v in ("3.0", "3.1"))


@pytest.mark.parametrize(
    ("rules", "at_least"),
    [(Rules(), ["tabs"]), (Rules("reset"), []), (Rules(restart="restore"), ["tabs", "restart"])],
)
def test_views_alone_tell_some_and_never_mislead(
    rules: Rules, at_least: list[str], tmp_path: Path
) -> None:
    log = tmp_path / "log.jsonl"
    views = [row for row in simulate(25_000, 5, rules).rows if row["event"] == "screen_view"]
    write_json_lines(views, log)
    found = find_history(split(read_files([log]).log, 1), THE_MAP)
    for rule in HISTORY:
        true = asdict(rules) if found.told[rule] else THE_MAP.history
        assert found.history[rule] == true[rule], "told and right, or left as the map has it"
    assert all(found.told[rule] for rule in at_least)


def test_a_few_views_tell_nothing_of_them(tmp_path: Path) -> None:
    log = tmp_path / "log.csv"
    log.write_text(
        "time,user,screen,version\n1777888800,u,A,1\n1777888805,u,B,2\n1777888809,u,A,\n"
    )
    read = read_files([log]).log
    found = find_history(split(read, 1), THE_MAP)
    assert not any(found.told.values())
    version = property_of(read.terms["props"], "version")
    assert [list(version.in_rows(read)), version.values] == [[0, 1, -1], ["1", "2"]]
