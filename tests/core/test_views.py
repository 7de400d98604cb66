"""A log of views alone, under each history rule: most steps are read as they truly were."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

import pytest

from mossy_trail.core.app_map import HISTORY
from mossy_trail.core.log import split
from mossy_trail.demo.phone import Rules
from mossy_trail.demo.simulator import simulate, write_rows
from mossy_trail.engine.study import Study
from mossy_trail.intake.reader import read_files
from tests.core.test_replay import THE_MAP, differences, flat_truth, same, steps_of

SETTINGS = [(rule, setting) for rule, settings in HISTORY.items() for setting in settings[1:]]
NAMES = ("move", "below", "below_params")


def replayed(rows: Iterable[dict[str, Any]], rules: Rules, folder: Path) -> list[dict[str, Any]]:
    log = folder / "log.jsonl"
    write_rows(list(rows), folder / "log.csv", log)
    app_map = replace(THE_MAP, history=asdict(rules))
    return steps_of(Study(split(read_files([log]).log, 1), app_map))


def share_right(steps: list[dict[str, Any]], truth: list[dict[str, Any]]) -> float:
    """Of the true steps and those that never were: how many have the right move and below."""
    known = {(t["user"], t["time"], t["screen"]): t for t in truth}
    right = extra = 0
    for step in steps:
        true = known.get((step["user"], round(step["time"].timestamp() * 1000), step["screen"]))
        extra += true is None
        right += true is not None and all(same(step[n]) == same(true[n]) for n in NAMES)
    return right / (len(truth) + extra)


@pytest.mark.parametrize(("rule", "setting"), [("tabs", "keep"), *SETTINGS])
def test_each_history_rule_with_moves_and_without(rule: str, setting: str, tmp_path: Path) -> None:
    rules = replace(Rules(), **{rule: setting})
    simulated = simulate(12_000, 9, rules)
    rows, truth = list(simulated.rows), flat_truth(simulated)
    assert differences(replayed(rows, rules, tmp_path), truth) == []
    views = [row for row in rows if row["event"] == "screen_view"]
    found = replayed(views, rules, tmp_path)
    assert all(step["inferred"] for step in found)
    assert share_right(found, truth) >= 0.93
