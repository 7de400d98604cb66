"""The command line, which needs no server: the same steps and figures as the page."""

from __future__ import annotations

import csv
import json
from pathlib import Path
from typing import Any

import polars as pl
import pytest
from typer.testing import CliRunner

from mossy_trail.cli import cli
from mossy_trail.demo.load import MAP
from tests.conftest import Demo
from tests.core.test_replay import differences
from tests.core.test_sign_in import as_truth_tells


def run(*arguments: str, code: int = 0) -> str:
    result = CliRunner().invoke(cli, list(arguments))
    assert result.exit_code == code, result.output
    return result.output if code else result.stdout


@pytest.mark.parametrize("suffix", ["parquet", "csv", "jsonl"])
def test_replayed_steps_are_the_true_ones(demo: Demo, tmp_path: Path, suffix: str) -> None:
    out = tmp_path / f"steps.{suffix}"
    run("replay", str(demo.csv), "--map", str(MAP), "--out", str(out))
    assert differences(read(out), demo.truth) == []


def read(path: Path) -> list[dict[str, Any]]:
    if path.suffix == ".parquet":
        return pl.read_parquet(path).to_dicts()
    if path.suffix == ".jsonl":
        return [json.loads(line) for line in path.open()]
    with path.open() as file:
        return [{**row, "step": int(row["step"])} for row in csv.DictReader(file)]


@pytest.mark.parametrize("unit", ["sessions", "users"])
def test_measured_figures_are_the_true_ones(demo: Demo, unit: str) -> None:
    arguments = ["measure", "sign-in", str(demo.json_lines), "--map", str(MAP), "--unit", unit]
    told = as_truth_tells(json.loads(run(*arguments, "--json")))
    true = dict(demo.figures[unit])
    for times in ("met_to_tried_ms", "tried_to_in_ms"):
        assert told.pop(times) == pytest.approx(true.pop(times))
    assert told == true
    assert f"{true['in']:,}" in run(*arguments)


def test_a_demo_log_is_the_same_for_the_same_seed(tmp_path: Path) -> None:
    for name in ("a", "b"):
        run("demo-log", "--out", str(tmp_path / name), "--rows", "2000", "--seed", "3")
    run("demo-log", "--out", str(tmp_path / "c"), "--rows", "2000", "--seed", "4")
    written = [(tmp_path / name / "skerry.csv").read_bytes() for name in "abc"]
    assert written[0] == written[1] != written[2]
    assert written[0].count(b"\n") > 2000


def test_errors_in_words(tmp_path: Path) -> None:
    empty = tmp_path / "empty.csv"
    empty.touch()
    assert "The file is empty" in run("measure", "sign-in", str(empty), code=1)
    log = tmp_path / "log.csv"
    log.write_text("time,user,screen\n1777888800,=a,A\n")
    assert "must end in" in run("replay", str(log), "--out", "steps.xlsx", code=2)
    steps = tmp_path / "steps.csv"
    run("replay", str(log), "--out", str(steps))
    assert read(steps)[0]["user"] == "'=a"
