"""The command line, which needs no server: the same steps and figures as the page."""

from __future__ import annotations

import csv
import json
import os
import pty
import re
import subprocess
import sys
from collections import Counter
from collections.abc import Iterator
from contextlib import suppress
from importlib.metadata import version
from pathlib import Path
from typing import Any

import duckdb
import pandas as pd
import polars as pl
import pytest
from rich.console import Console
from typer.testing import CliRunner

from mossy_trail.cli import cli
from mossy_trail.demo.load import MAP
from mossy_trail.tables import tables_of
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


def test_steps_carry_the_properties_of_their_first_row(demo: Demo, tmp_path: Path) -> None:
    out = tmp_path / "steps.parquet"
    run("replay", str(demo.csv), "--map", str(MAP), "--out", str(out))
    head, *lines = csv.reader(demo.csv.open())
    for step in read(out)[:500]:
        row = dict(zip(head, lines[step["rows"][0]["line"] - 2], strict=True))
        told = json.loads(step["properties"])
        assert told == {name: row[name] for name in told}
        assert {"version", "platform"} <= told.keys()


def test_readers_tell_what_columns_of_json_lines_are(demo: Demo, tmp_path: Path) -> None:
    """By the first lines, as they do where nothing is said; and none of the rest is lost."""
    lines, whole = tmp_path / "steps.jsonl", tmp_path / "steps.parquet"
    log, (head, *rows) = tmp_path / "log.csv", demo.csv.read_text().splitlines()
    plain = [f"2026-05-04T00:00:{i % 60:02}Z,plain-{i},,screen_view,HomePier" for i in range(300)]
    log.write_text("\n".join([head, *(row + "," * 11 for row in plain), *rows]))
    for out in (lines, whole):
        run("replay", str(log), "--map", str(MAP), "--out", str(out))
    true = pl.read_parquet(whole).drop("rows")
    moments = [name for name, kind in true.schema.items() if isinstance(kind, pl.Datetime)]
    told = pl.read_ndjson(lines).with_columns(pl.col(moments).str.to_datetime(time_zone="UTC"))
    own = [name for name in true.columns if true[name].null_count() < len(true)]
    of = ["user", "asked_at", "session", "step"]
    assert (
        told.select(own)
        .cast(dict(true.select(own).schema))
        .sort(of)
        .equals(true.select(own).sort(of))
    )
    assert told["marks"].list.len().sum() > 10
    assert len(told["user"].rle()) == told["user"].n_unique()  # nobody's steps are torn apart
    some = ["user", "session", "step", "asked_at", "screen", "move", "depth", "below", "marks"]
    by_pandas = pl.from_pandas(pd.read_json(lines, lines=True)[some])
    by_duckdb = duckdb.sql(f"SELECT * FROM '{lines}'").pl().select(some)
    for others in (by_pandas, by_duckdb):
        moment = pl.col("asked_at").cast(pl.Datetime("us")).dt.replace_time_zone("UTC")
        alike = others.with_columns(moment).cast(dict(true.select(some).schema))
        assert alike.sort(of).equals(true.select(some).sort(of))


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
    told = as_truth_tells(json.loads(run(*arguments, "--json"))["whole"])
    true = dict(demo.figures[unit])
    for times in ("met_to_tried_ms", "tried_to_in_ms"):
        assert told.pop(times) == pytest.approx(true.pop(times))
    assert told == true


BUYING = {"stages": [{"any": [{"screens": [s]}]} for s in ("BuyPass", "PaySheet", "Receipt")]}
IOS = json.dumps({"property": "platform", "values": ["ios"]})


@pytest.mark.parametrize(
    ("measure", "more", "counts"),
    [
        ("startup", ["--by", "version"], lambda f: f["kinds"]["cold"]),
        ("onboarding", [], lambda f: f["begun"]),
        ("funnel", ["--unit", "users"], lambda f: f["stages"][2]["count"]),
        ("gates", ["--over", "week"], lambda f: f["tries"]),
        ("tabs", [], lambda f: f["tabs"][0]["visits"]["times"]),
        ("loops", [], lambda f: f["loops"][0]["count"]["times"]),
        ("links", ["--goal", "Receipt"], lambda f: f["every"]["then"]["goal"]["times"]),
        ("drop-offs", ["--goal", "Receipt"], lambda f: f["ended"]),
    ],
)
def test_each_measure_is_told_without_a_server(
    demo: Demo, tmp_path: Path, measure: str, more: list[str], counts: Any
) -> None:
    spec = tmp_path / "buying.json"
    spec.write_text(json.dumps(BUYING))
    arguments = ["measure", measure, str(demo.csv), "--map", str(MAP), *more]
    arguments += ["--spec", str(spec)] if measure == "funnel" else []
    whole = json.loads(run(*arguments, "--json"))["whole"]
    narrowed = json.loads(run(*arguments, "--segment", IOS))["whole"]
    shown = Console(width=300)
    with shown.capture() as told:
        shown.print(*tables_of(whole, measure))
    plain = [value for value in whole.values() if type(value) is int]
    assert all(f"{value:,}" in told.get() for value in plain)
    assert 0 < counts(narrowed) < counts(whole)
    assert "no segment" in run(*arguments, "--segment", '{"x": 1}', code=1)


def test_options_that_a_measure_does_not_take_are_refused(demo: Demo) -> None:
    log = ["measure", "tabs", str(demo.csv), "--map", str(MAP)]
    for option, value in (("--goal", "Receipt"), ("--slow", "3000"), ("--spec", str(MAP))):
        assert "takes no such option" in run(*log, option, value, code=2)
    assert "two values of a property" in run(*log, "--versus", "3.1,3.2", code=2)
    for over in (["--over", "moon"], ["--over", "day", "--by", "version"]):
        assert "day or week" in run(*log, *over, code=2)
    assert "no onboarding funnel" in run("measure", "funnel", str(demo.csv), code=2)
    told = json.loads(run(*log, "--by", "version", "--versus", "3.1,3.2"))
    assert [group["value"] for group in told["groups"]] != []
    assert told["between"].keys() >= {"tabs/Passes/used"}


def test_a_demo_log_is_the_same_for_the_same_seed(tmp_path: Path) -> None:
    for name in ("a", "b"):
        run("demo-log", "--out", str(tmp_path / name), "--rows", "2000", "--seed", "3")
    run("demo-log", "--out", str(tmp_path / "c"), "--rows", "2000", "--seed", "4")
    written = [(tmp_path / name / "skerry.csv").read_bytes() for name in "abc"]
    assert written[0] == written[1] != written[2]


def test_a_log_without_views_tells_the_moves_all_the_same(tmp_path: Path) -> None:
    for kind in ("views", "moves"):
        run("demo-log", "--out", str(tmp_path / kind), "--rows", "3000", "--only", kind)
    log, out = tmp_path / "moves" / "skerry.csv", tmp_path / "steps.jsonl"
    views = {row["event"] for row in csv.DictReader((tmp_path / "views/skerry.csv").open())}
    assert (views, ",screen_view," in log.read_text()) == ({"screen_view"}, False)
    run("replay", str(log), "--map", str(MAP), "--out", str(out))
    truth = list(csv.DictReader((tmp_path / "moves/truth.csv").open()))
    told, true = (by_session(steps) for steps in (read(out), truth))
    assert told.keys() == {session for session, steps in true.items() if len(steps) > 1}
    # The first screens of a start are told by their views alone.
    both = sum(sum((Counter(told[s]) & Counter(true[s])).values()) for s in told)
    assert both / sum(len(true[s]) - 2 for s in told) > 0.97


def by_session(steps: list[dict[str, Any]]) -> dict[str, list[tuple[str, ...]]]:
    found: dict[str, list[tuple[str, ...]]] = {}
    for step in steps:
        found.setdefault(step["session"], []).append((step["screen"], step["move"]))
    return found


def test_a_log_comes_from_standard_input_and_steps_go_to_standard_output(
    demo: Demo, tmp_path: Path
) -> None:
    out = tmp_path / "steps.jsonl"
    run("replay", str(demo.csv), "--map", str(MAP), "--out", str(out))
    command = [sys.executable, "-m", "mossy_trail.cli", "replay", "-", "--map", str(MAP)]
    log = demo.csv.read_bytes()
    poured = subprocess.run([*command, "--out", "-"], input=log, capture_output=True, check=True)
    told, written = (
        [{k: v for k, v in json.loads(line).items() if k != "rows"} for line in text.splitlines()]
        for text in (poured.stdout, out.read_bytes())
    )
    assert told == written


@pytest.mark.parametrize(
    ("arguments", "code", "says"),
    [
        (["--version"], 0, f"mossy {version('mossy-trail')}\n"),
        (["--help"], 0, "--install-completion"),
        (["health", "nowhere.csv"], 2, "there is no file 'nowhere.csv'"),
        (["health", "-"], 1, "standard input: "),
        (["replay", "LOG", "--out", "nowhere/steps.csv"], 1, "No such file or directory"),
        (["report", "LOG", "--out", "nowhere/told.md"], 1, "No such file or directory"),
        (["report", "LOG", "--out", "-"], 0, "# "),
    ],
)
def test_what_goes_wrong_is_said_in_a_line(
    demo: Demo, arguments: list[str], code: int, says: str
) -> None:
    told = [str(demo.csv) if word == "LOG" else word for word in arguments]
    done = CliRunner().invoke(cli, told, input=b"")
    assert (done.exit_code, says in done.output) == (code, True), done.output
    assert done.exception is None or isinstance(done.exception, SystemExit)


def test_a_terminal_gets_tables(demo: Demo) -> None:
    """A pipe gets JSON without being told."""
    arguments = ["measure", "tabs", str(demo.csv), "--map", str(MAP), "--by", "platform"]
    ours, theirs = pty.openpty()
    with os.fdopen(ours, "rb", closefd=True) as shown:
        command = [sys.executable, "-m", "mossy_trail.cli", *arguments]
        size = {"COLUMNS": "200", "LINES": "50"}
        wide = {**os.environ, **size, "NO_COLOR": "1", "TERM": "dumb"}
        started = subprocess.Popen(command, stdout=theirs, stderr=subprocess.DEVNULL, env=wide)
        os.close(theirs)
        told = b"".join(_until_closed(shown)).decode()
        assert started.wait() == 0
    assert "tabs, platform ios" in told
    for tab in json.loads(run(*arguments))["whole"]["tabs"]:
        (line,) = re.findall(rf"^ *{tab['name']} +{tab['visits']['times']:,} .*$", told, re.M)[:1]
        assert f"of {tab['used']['of']:,}" in line


def _until_closed(shown: Any) -> Iterator[bytes]:
    """What a terminal shows; when its other end is closed, it can be read no more."""
    with suppress(OSError):
        while data := shown.read1():
            yield data


SERVER = "alembic fastapi google opentelemetry psycopg sqlalchemy starlette structlog uvicorn"


def test_the_command_line_and_the_library_need_nothing_of_the_server(demo: Demo) -> None:
    """As installed without its extra: then only `up` says what is missing."""
    script = f"""
import sys
for name in {SERVER.split()}:
    sys.modules[name] = None
import mossy_trail as mt
from mossy_trail import cli
AND
sys.argv[0] = "mossy"
cli.main()
"""
    asking = script.replace("AND", "mt.read(sys.argv[2]).tabs()")
    command = [sys.executable, "-c", asking, "health", str(demo.csv), "--json"]
    done = subprocess.run(command, capture_output=True, text=True, check=True)
    assert json.loads(done.stdout)["rows"] > 0
    command = [sys.executable, "-c", script.replace("AND", ""), "up"]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    assert (done.returncode, "pip install 'mossy-trail[server]'" in done.stderr) == (1, True)
