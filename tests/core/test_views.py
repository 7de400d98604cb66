"""A log of views alone, under each history rule: most steps are read as they truly were."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

import pytest

from mossy_trail.core.model.app_map import HISTORY
from mossy_trail.core.model.log import split
from mossy_trail.demo.phone import Rules
from mossy_trail.demo.simulator import simulate, write_json_lines
from mossy_trail.engine.study import Study
from mossy_trail.intake.reader import read_files
from tests.core.test_replay import THE_MAP, differences, flat_truth, same, steps_of

SETTINGS = [(rule, setting) for rule, settings in HISTORY.items() for setting in settings[1:]]
NAMES = ("move", "below", "below_params")
RIGHT_SURE_AND_OF_SURE = {
    ("tabs", "shared"): (0.92, 0.22, 0.985),
    ("reselect", "to_root"): (0.94, 0.75, 0.98),
}
"""Where views tell less: a tab on a shared stack, and its root chosen once more, look like "back".
Of the others 83 in 100 are sure, and of those 98 right."""


def replayed(rows: Iterable[dict[str, Any]], rules: Rules, folder: Path) -> list[dict[str, Any]]:
    log = folder / "log.jsonl"
    write_json_lines(rows, log)
    app_map = replace(THE_MAP, history=asdict(rules))
    return steps_of(Study(split(read_files([log]).log, 1), app_map))


def judged(steps: list[dict[str, Any]], truth: list[dict[str, Any]]) -> list[bool | None]:
    """Per step whether it has the right move and below; none where there truly was no step."""
    known = {(t["user"], t["time"], t["screen"]): t for t in truth}

    def judge(step: dict[str, Any]) -> bool | None:
        true = known.get((step["user"], round(step["time"].timestamp() * 1000), step["screen"]))
        return true and all(same(step[n]) == same(true[n]) for n in NAMES)

    return [judge(step) for step in steps]


@pytest.mark.parametrize(("rule", "setting"), [("tabs", "keep"), *SETTINGS])
def test_each_history_rule_with_moves_and_without(rule: str, setting: str, tmp_path: Path) -> None:
    rules = replace(Rules(), **{rule: setting})
    simulated = simulate(40_000, 9, rules)
    rows, truth = list(simulated.rows), flat_truth(simulated)
    assert differences(replayed(rows, rules, tmp_path), truth) == []
    views = [row for row in rows if row["event"] == "screen_view"]
    found = replayed(views, rules, tmp_path)
    assert all(step["inferred"] for step in found)
    verdicts = judged(found, truth)
    least, least_sure, least_right = RIGHT_SURE_AND_OF_SURE.get((rule, setting), (0.94, 0.83, 0.98))
    assert verdicts.count(True) / (len(truth) + verdicts.count(None)) >= least
    of_sure = [v for v, step in zip(verdicts, found, strict=True) if not step["unsure"]]
    assert len(of_sure) / len(found) >= least_sure
    assert of_sure.count(True) / len(of_sure) >= least_right
