"""Several readings weighed: later rows decide, reported moves count, and doubt is said."""

from __future__ import annotations

import random
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from mossy_trail.core.inference.transitions import ONE, slots_of
from mossy_trail.core.model.app_map import AppMap
from mossy_trail.core.model.log import Log, split
from mossy_trail.core.model.steps import MOVES
from mossy_trail.core.replay.replay import learn, replay
from mossy_trail.demo.noise import roughen
from mossy_trail.demo.phone import Rules
from mossy_trail.demo.simulator import simulate, write_json_lines
from mossy_trail.intake.reader import read_files
from tests.core.test_replay import THE_MAP, flat_truth
from tests.core.test_views import judged, replayed

PLAIN = AppMap.from_dict(
    {"screens": [{"name": n} for n in "ABCDE"] + [{"name": "In", "role": "sign_in"}]}
)


def log_of(folder: Path, sessions: list[str], moves: dict[int, str] | None = None) -> Log:
    """A log in which each session is the views of these letters, ten seconds apart."""
    rows: list[dict[str, Any]] = []
    for s, screens in enumerate(sessions):
        for i, screen in enumerate(screens):
            time = 1777888800000 + s * 86_400_000 + i * 10_000
            row = {"time": time, "user": f"u{s}", "session": f"s{s}", "screen": screen}
            if moves and i in moves:
                rows.append({**row, "time": time - 100, "event": moves[i]})
            rows.append({**row, "event": "screen_view"})
    write_json_lines(rows, folder / "log.jsonl")
    return split(read_files([folder / "log.jsonl"]).log, 1)[0]


def moves_of(log: Log, sessions: int, last: int) -> list[list[str]]:
    """The moves of the last sessions."""
    steps = replay(log, PLAIN)
    names = [MOVES[move] for move in steps.steps.move]
    edges = [int(e) for e in np.flatnonzero(np.diff(steps.steps.journey)) + 1]
    found = np.split(np.array(names), edges)
    assert len(found) == sessions
    return [list(map(str, one)) for one in found[-last:]]


def test_two_moves_to_the_same_place_are_doubted(tmp_path: Path) -> None:
    """Where choosing a tab again leads to its root, it looks like "back" from right above it."""
    log = log_of(tmp_path, ["ABA"] * 8)
    document = {"screens": [{"name": "A"}, {"name": "B", "tab": "T"}]}
    document |= {"tabs": [{"name": "T", "root": "A"}]}
    for rule, least, most in (("stay", 0.0, 0.1), ("to_root", 0.15, 0.3)):
        app_map = AppMap.from_dict({**document, "history": {"reselect": rule}})
        usual, _ = learn([log], app_map)
        (pair,) = slots_of(usual, np.array([2]))  # from the second screen to the first
        assert least < usual.weights[pair, MOVES.index("switch_tab")] < most
        steps = replay(log, app_map, usual).steps
        assert [MOVES[move] for move in steps.move[:3]] == ["start", "push", "pop"]
    assert steps.unsure[:3].tolist() == [False, False, True]


def test_a_reported_move_outweighs_what_is_usual(tmp_path: Path) -> None:
    """A "back" from C onto A can only be one if C stands where B was."""
    log = log_of(tmp_path, ["ABCA"] * 3, {3: "pop"})
    assert moves_of(log, 3, 1) == [["start", "push", "replace", "pop"]]


def test_every_view_without_a_move_weighs_one(tmp_path: Path) -> None:
    log = log_of(tmp_path, ["ABCBA", "ABDBA", "ACE"])
    usual, likelihood = learn([log], PLAIN)
    assert likelihood < 0
    assert np.all((usual.weights >= 0) & (usual.weights <= 1))
    told = replay(log, PLAIN, usual).steps
    again = replay(log, PLAIN, usual).steps
    assert np.array_equal(told.move, again.move)
    assert ONE == 1000


def test_the_readings_do_not_depend_on_the_order_of_parts_or_rows(tmp_path: Path) -> None:
    views = [r for r in simulate(6_000, 2).rows if r["event"] == "screen_view"]
    shuffled = random.Random(1).sample(views, len(views))
    found = [
        [(s["user"], s["time"], s["move"], s["below"], s["unsure"]) for s in sorted_steps(rows, at)]
        for rows, at in ((views, tmp_path / "a"), (shuffled, tmp_path / "b"))
    ]
    assert found[0] == found[1]


def sorted_steps(rows: list[dict[str, Any]], folder: Path) -> list[dict[str, Any]]:
    folder.mkdir()
    return sorted(replayed(rows, Rules(), folder), key=lambda s: (s["user"], s["time"]))


@pytest.mark.parametrize("shown", ["views", "half of the moves"])
def test_noise_costs_little(shown: str, tmp_path: Path) -> None:
    """At most three points less are right among views, and moves that are told make up for it."""
    simulated, dice = simulate(20_000, 9), random.Random(4)
    truth = flat_truth(simulated)

    def share(rows: list[dict[str, Any]], name: str) -> float:
        kept = [
            row
            for row in rows
            if row["event"] == "screen_view" or (shown != "views" and dice.random() < 0.5)
        ]
        (tmp_path / name).mkdir()
        verdicts = judged(replayed(kept, Rules(), tmp_path / name), truth)
        return verdicts.count(True) / (len(truth) + verdicts.count(None))

    clean = share(list(simulated.rows), "clean")
    swapped = _disturbed(list(simulated.rows), dice)
    assert clean >= (0.93 if shown == "views" else 0.94)
    assert share(swapped, "noisy") >= clean - 0.03 - 0.005, "0.5 in 100 rows are lost"


def _disturbed(rows: list[dict[str, Any]], dice: random.Random) -> list[dict[str, Any]]:
    """Of each 1,000 rows, ten come twice, five are lost, and five change places with the next."""
    left: list[dict[str, Any]] = []
    for row in rows:
        if dice.random() >= 0.005:
            left += [row, row] if dice.random() < 0.01 else [row]
    for i in range(len(left) - 1):
        same = left[i]["user"] == left[i + 1]["user"]
        if same and dice.random() < 0.005:
            left[i] = {**left[i], "time": left[i + 1]["time"]}
    return left


def test_rules_of_the_map_change_the_readings(tmp_path: Path) -> None:
    rows, _ = roughen(list(simulate(4_000, 5).rows), 1)
    views = [row for row in rows if row["event"] == "screen_view"]
    kept = replayed(views, Rules(), tmp_path)
    shared = replayed(views, replace(Rules(), tabs="shared"), tmp_path)
    assert [s["below"] for s in kept] != [s["below"] for s in shared]
    assert THE_MAP.history["tabs"] == "keep"
