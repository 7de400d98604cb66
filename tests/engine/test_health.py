"""The health of a log: noise that was put in is found, counted, and opens to its rows."""

from __future__ import annotations

import csv
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from mossy_trail.core.measures.health import FINDINGS, HOUR, gaps, lateness, name_patterns
from mossy_trail.core.model.app_map import AppMap
from mossy_trail.core.model.log import Log, split
from mossy_trail.demo.noise import GAP, NOISE, roughen
from mossy_trail.demo.simulator import simulate, write_csv
from mossy_trail.engine import health
from mossy_trail.engine.study import Study
from mossy_trail.intake.reader import Reading, read_files

READ_AT = 1_780_600_000_000_000
ROWS = list(simulate(70_000, 3).rows)
FOUND_AS = {
    "doubled": "doubled",
    "resent": "resent",
    "late": "out_of_order",
    "misspelt": "folded_name",
    "sessionless": "no_session",
    "clock_unset": "clock_unset",
    "clock_ahead": "clock_ahead",
}
"""Which finding counts exactly the rows that a kind of noise touched."""
ALSO = {"late": {"doubled"}}
"""What else some noise does: a view that comes before its move is worked out, and so on."""


def rough(folder: Path, kind: str) -> tuple[Reading, int]:
    rows, touched = roughen(ROWS, 1, [kind] if kind else ["resent"])
    if not kind:
        rows = ROWS
    path = folder / f"{kind}.csv"
    write_csv(rows, path)
    return read_files([path]), touched.get(kind, 0)


def findings(reading: Reading, app_map: AppMap) -> dict[str, int]:
    return health.measure(Study(split(reading.log, 3), app_map, READ_AT))["findings"]


@pytest.fixture(scope="module")
def clean(tmp_path_factory: pytest.TempPathFactory, app_map: AppMap) -> dict[str, int]:
    return findings(rough(tmp_path_factory.mktemp("clean"), "")[0], app_map)


@pytest.mark.parametrize("kind", FOUND_AS)
def test_noise_is_counted_exactly(
    tmp_path: Path, app_map: AppMap, clean: dict[str, int], kind: str
) -> None:
    reading, touched = rough(tmp_path, kind)
    assert touched > 3
    found = findings(reading, app_map)
    more = {name: found[name] - clean[name] for name in FINDINGS}
    assert more.pop(FOUND_AS[kind]) == touched
    assert {name for name, count in more.items() if count > 0} <= ALSO.get(kind, set())


def test_what_is_lost_or_unreadable_leaves_its_trace(
    tmp_path: Path, app_map: AppMap, clean: dict[str, int]
) -> None:
    assert clean["lost_before"] == clean["landed_elsewhere"] == 0
    reading, touched = rough(tmp_path, "lost")
    found = findings(reading, app_map)
    traces = ("lost_before", "landed_elsewhere", "inferred")
    more = sum(found[name] - clean[name] for name in traces)
    assert touched / 5 < more < touched
    reading, touched = rough(tmp_path, "unreadable")
    assert len(reading.set_aside) == touched > 3
    reading, _ = rough(tmp_path, "gap")
    (gap,) = health.measure(Study(split(reading.log, 3), app_map, READ_AT))["gaps"]
    assert (gap["start"], gap["end"]) == GAP
    assert gap["expected"] > 16


@pytest.fixture(scope="module")
def all_noise(tmp_path_factory: pytest.TempPathFactory, app_map: AppMap) -> tuple[Study, Path]:
    folder = tmp_path_factory.mktemp("noise")
    rows, touched = roughen(ROWS, 1)
    assert set(touched) == set(NOISE)
    path = folder / "all.csv"
    write_csv(rows, path)
    return Study(split(read_files([path]).log, 3), app_map, READ_AT), path


@pytest.mark.parametrize("finding", FINDINGS)
def test_every_finding_opens_to_exactly_its_rows(
    all_noise: tuple[Study, Path], finding: str
) -> None:
    study, path = all_noise
    with path.open() as file:
        written: list[dict[str, Any]] = list(csv.DictReader(file))
    counted = health.measure(study)["findings"][finding]
    rows: list[dict[str, Any]] = []
    total = counted
    while len(rows) < total:
        total, page = health.evidence(study, finding, len(rows), 37)
        assert total == counted
        assert page
        rows += page
    assert len({row["line"] for row in rows}) == counted
    for row in rows:
        assert written[row["line"] - 2]["user"] == row["user"]
        assert (written[row["line"] - 2]["screen"] or None) == row["screen"]
        assert row["step"] >= 1
        if finding in ("doubled", "repeated", "resent"):
            assert row["fate"] == finding
    with pytest.raises(KeyError):
        health.evidence(study, "no such", 0, 1)


def test_figures_do_not_depend_on_how_the_log_is_split(
    all_noise: tuple[Study, Path], app_map: AppMap
) -> None:
    study, path = all_noise
    other = Study(split(read_files([path]).log, 11), app_map, READ_AT)
    assert health.measure(other) == health.measure(study)


def test_an_empty_log_has_no_findings(app_map: AppMap) -> None:
    found = health.measure(Study([], app_map, READ_AT))
    assert set(found["findings"].values()) == {0}
    assert found["first"] is None


@pytest.mark.parametrize("files", [1, 7])
def test_lateness_is_by_the_newest_row_above(all_noise: tuple[Study, Path], files: int) -> None:
    """Against the plain definition, row by row; in each file by itself."""
    part = all_noise[0].parts[0].log
    file = (part.columns["line"] * 7919 % files).astype(part.columns["file"].dtype)
    log = Log({**part.columns, "file": file}, part.terms)
    late = lateness(log, READ_AT)
    newest: dict[tuple[int, int], int] = {}
    for row in np.argsort(log.columns["line"]):
        own, time = (int(log.columns["user"][row]), int(file[row])), int(log.columns["time"][row])
        right = 946_684_800_000_000 <= time <= READ_AT + 86_400_000_000
        expected = max(newest.get(own, time) - time, 0) if right else 0
        assert late[row] == expected
        if right:
            newest[own] = max(newest.get(own, time), time)
    assert (late > 0).any()


def test_gaps_are_stretches_in_which_rows_are_usual() -> None:
    quiet_nights = np.tile(np.where(np.arange(24) < 6, 0, 50), 14)
    assert gaps(quiet_nights, quiet_nights // 10, 0) == []
    broken = quiet_nights.copy()
    broken[24 * 5 + 10 : 24 * 5 + 14] = 0
    (gap,) = gaps(broken, broken // 10, HOUR)
    assert (gap.start, gap.end) == ((24 * 5 + 11) * HOUR, (24 * 5 + 15) * HOUR)
    assert 16 < gap.expected <= 20
    few = np.array([400, 0, 0, 0, 400])
    assert gaps(few, np.array([1, 0, 0, 0, 1]), 0) == [], "a long session is no usual coming"


def test_ids_in_names_are_told_as_patterns() -> None:
    names = [f"Sailing/{i}" for i in range(9)] + ["Home", "Pier 1"]
    names += [f"Trip {i:08x}-0000-4000-8000-000000000000" for i in range(4)]
    found = [(one.pattern, one.names) for one in name_patterns(names)]
    assert found == [("Sailing/{id}", 9), ("Trip {id}", 4)]


def _said(i: int) -> dict[str, str]:
    return {
        "time": f"2026-05-04T10:{i // 60:02}:{i % 60:02}Z",
        "user": f"u{i % 3}",
        "event": "screen_view",
        "screen": f"S{i % 4}",
        "outcome": "",
    }


SHOUTED: dict[str, tuple[dict[str, Any], int]] = {
    "no_steps": ({"event": "tapped", "screen": ""}, 40),
    "midnight": ({"time": lambda i: f"2026-05-{1 + i % 28:02}T00:00:00Z"}, 40),
    "one_moment": ({"time": "2026-05-04T10:00:00Z"}, 40),
    "one_row_each": ({"user": lambda i: f"u{i}"}, 40),
    "screen_per_row": ({"screen": lambda i: f"S{i}"}, 40),
    "words_unread": ({"event": lambda i: "tapped" if i % 2 else "screen_view"}, 20),
    "outcomes_untold": ({"event": lambda i: "sign_in" if i % 4 else "screen_view"}, 30),
}
"""What of a sound log's rows is otherwise, and how many rows the finding is about then."""


@pytest.mark.parametrize("finding", SHOUTED)
def test_what_spoils_all_figures_is_said_and_opens_to_its_rows(
    tmp_path: Path, finding: str
) -> None:
    changed, about = SHOUTED[finding]

    def measured(change: dict[str, Any]) -> Study:
        rows = [
            _said(i) | {k: v(i) if callable(v) else v for k, v in change.items()} for i in range(40)
        ]
        path = tmp_path / "log.csv"
        with path.open("w", newline="") as file:
            writer = csv.DictWriter(file, list(rows[0]))
            writer.writeheader()
            writer.writerows(rows)
        return Study(split(read_files([path]).log, 2), AppMap.from_dict({}), READ_AT)

    assert health.measure(measured({}))["loud"] == {}
    study = measured(changed)
    assert health.measure(study)["loud"][finding] == about
    total, rows = health.evidence(study, finding, 0, 50)
    assert (total, len({row["line"] for row in rows})) == (about, about)
