"""The replay against the truth of simulated phones, and on rows that do not fit."""

from __future__ import annotations

import csv
import json
import random
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from mossy_trail.core.measures import startup
from mossy_trail.core.model.app_map import AppMap, Screen
from mossy_trail.core.model.log import Log, merge, split
from mossy_trail.core.model.scope import Scope
from mossy_trail.core.replay.replay import replay
from mossy_trail.core.replay.sessions import resent
from mossy_trail.demo.load import MAP
from mossy_trail.demo.phone import MENU as MENU_NAME
from mossy_trail.demo.simulator import Demo as Simulated
from mossy_trail.demo.simulator import Habits, simulate
from mossy_trail.engine import links
from mossy_trail.engine.export import steps_table
from mossy_trail.engine.study import Study
from mossy_trail.intake.app_map_file import map_of, parse_map
from mossy_trail.intake.reader import read_files
from tests.campaign import examples
from tests.conftest import Demo

COMPARED = ("screen", "params", "move", "tab", "region", "depth", "below", "below_params")
WITHOUT_MENU = map_of(parse_map(MAP.read_text()))
THE_MAP = replace(WITHOUT_MENU, screens=(*WITHOUT_MENU.screens, Screen(MENU_NAME, role="menu")))
HABITS = st.builds(Habits, st.booleans(), st.booleans(), st.booleans(), st.booleans())


def steps_of(study: Study) -> list[dict[str, Any]]:
    return [step for part in study.each(steps_table) for step in part.to_pylist()]


def same(value: Any) -> str:
    """Truth and replay in one spelling: nothing as "", params as their plain content."""
    text = "" if value is None else str(value)
    return json.dumps(json.loads(text), sort_keys=True) if text.startswith("{") else text


def differences(steps: Sequence[dict[str, Any]], truth: Sequence[dict[str, Any]]) -> list[Any]:
    known = {(t["user"], t["session"], int(t["step"])): t for t in truth}
    wrong: list[Any] = []
    for step in steps:
        true = known.pop((step["user"], step["session"], step["step"]), None)
        for name in COMPARED:
            if true is None or same(step[name]) != same(true[name]):
                wrong.append((step["user"], step["session"], step["step"], name, step, true))
                break
    return wrong + list(known)


@pytest.mark.parametrize("form", ["csv", "json_lines"])
def test_every_step_of_a_clean_log_is_exactly_the_phones_own(
    demo: Demo, app_map: AppMap, form: str
) -> None:
    log = read_files([getattr(demo, form)]).log
    steps = steps_of(Study(split(log, 3), app_map))
    assert len(steps) > 40_000
    assert differences(steps, demo.truth) == []
    assert not any(step["inferred"] for step in steps if step["move"] != "start")


def write_log(path: Path, rows: Sequence[dict[str, Any]]) -> Log:
    path.write_text("".join(json.dumps(row) + "\n" for row in rows))
    return read_files([path]).log


def flat_truth(simulated: Simulated) -> list[dict[str, Any]]:
    def text(value: Any) -> Any:
        return json.dumps(value) if isinstance(value, dict) else value

    return [{k: text(v) for k, v in s.items()} for visit in simulated.visits for s in visit.truth]


@examples(25)
@given(
    seed=st.integers(0, 10**9),
    habits=HABITS,
    shuffle=st.randoms(use_true_random=False),
    cut=st.integers(0, 9),
)
@example(seed=651, habits=Habits(), shuffle=random.Random(1), cut=4)
def test_any_walk_in_any_order_of_rows_and_files(
    tmp_path_factory: pytest.TempPathFactory, seed: int, habits: Habits, shuffle: Any, cut: int
) -> None:
    simulated = simulate(400, seed, habits=habits)
    rows = list(simulated.rows)
    shuffle.shuffle(rows)
    folder = tmp_path_factory.mktemp("walk")
    at = len(rows) * cut // 9
    halves = [half for half in (rows[:at], rows[at:]) if half]
    logs = [write_log(folder / f"{i}.jsonl", half) for i, half in enumerate(halves)]
    for i, log in enumerate(logs):
        log.terms["file"][:] = [f"file {i}"]
    study = Study(split(merge(logs), 1 + cut % 4), THE_MAP)
    assert differences(steps_of(study), flat_truth(simulated)) == []


def test_what_was_planted_is_marked(demo: Demo, study: Study) -> None:
    steps = steps_of(study)
    planted = {name: counts["all"] for name, counts in demo.figures["planted"].items()}

    def marked(mark: str) -> int:
        return sum(mark in step["marks"] for step in steps)

    assert min(planted.values()) > 0
    assert marked("gate_loop") == planted["gate_loop_steps"]
    assert marked("placeholder") == planted["placeholder_links"]
    assert marked("tab_mismatch") == planted["wrong_tabs"]
    assert marked("piled_up") == planted["piled_receipts"]
    landed = [s for s in steps if "not_found" in s["marks"] and s["move"] == "link"]
    assert len(landed) == planted["not_found_links"]
    platform = {v["user"]: v["platform"] for v in csv.DictReader(demo.csv.open())}
    dead = [s for s in steps if "dead_end" in s["marks"]]
    assert {(s["screen"], platform[s["user"]]) for s in dead} == {("RateSheet", "ios")}
    cut = sum(s["exit"] == "cut" and s["screen"] == "RateSheet" for s in steps)
    assert planted["rate_sheet_ends"] - cut <= len(dead) <= planted["rate_sheet_ends"]


def test_a_batch_that_was_sent_twice_changes_no_step(demo_log: Log, app_map: AppMap) -> None:
    again = demo_log.take(np.arange(0, len(demo_log), 3))
    again = Log(again.columns, {**again.terms, "file": ["sent again"]})
    once, twice = (
        Study(split(merge(logs), 3), app_map) for logs in ([demo_log], [again, demo_log])
    )
    told_once, told_twice = (
        [[step[name] for name in COMPARED] for step in steps_of(study)] for study in (once, twice)
    )
    assert told_once == told_twice
    merged = twice.fates()["resent"] - once.fates()["resent"]
    assert merged == len(again)


@pytest.mark.parametrize("rows", [3, 64, 65, 300])
def test_a_busy_moment_that_was_sent_twice_counts_once(demo_log: Log, rows: int) -> None:
    """Clocks of whole seconds may give very many rows one moment."""
    once = demo_log.take(np.arange(rows))
    columns = {**once.columns, "time": once.columns["time"] * 0}
    columns |= {name: np.zeros_like(once.columns[name]) for name in ("user", "session")}
    columns["screen"] = (np.arange(rows) % 7).astype(once.columns["screen"].dtype)
    columns["params"] = (np.arange(rows) // 7).astype(once.columns["params"].dtype)
    busy = Log(columns, once.terms)
    (part,) = split(merge([busy, Log(columns, {**once.terms, "file": ["sent again"]})]), 1)
    assert resent(part).sum() == rows


SECOND = 1000


def told(tmp_path: Path, *rows: dict[str, Any], app_map: AppMap = THE_MAP) -> list[dict[str, Any]]:
    """The steps of one user's rows, five seconds apart unless they say their own `time`."""
    full = [{"user": "u", "time": (100 + 5 * i) * SECOND, **row} for i, row in enumerate(rows)]
    stamped = [{**row, "time": 1_750_000_000_000 + row["time"]} for row in full]
    return steps_of(Study(split(write_log(tmp_path / "log.jsonl", stamped), 1), app_map))


def view(screen: str, **more: Any) -> dict[str, Any]:
    return {"event": "screen_view", "screen": screen, **more}


def test_a_back_that_lands_elsewhere_is_marked_and_the_rest_is_right(tmp_path: Path) -> None:
    steps = told(
        tmp_path,
        {"event": "app_start"},
        view("SailingsBoard"),
        {"event": "push", "screen": "SailingDetail"},
        {"event": "push", "screen": "SeatPick"},
        {"event": "pop", "screen": "SailingsBoard"},
        {"event": "push", "screen": "SailingDetail"},
    )
    assert [(s["screen"], s["depth"], s["below"]) for s in steps] == [
        ("SailingsBoard", 1, None),
        ("SailingDetail", 2, "SailingsBoard"),
        ("SeatPick", 3, "SailingDetail"),
        ("SailingsBoard", 1, None),
        ("SailingDetail", 2, "SailingsBoard"),
    ]
    assert [s["marks"] for s in steps][3] == ["landed_elsewhere"]
    assert not any("landed_elsewhere" in s["marks"] for s in steps if s["step"] != 4)


def test_doubled_and_repeated_views_are_no_steps(tmp_path: Path) -> None:
    steps = told(
        tmp_path,
        {"event": "push", "screen": "SailingDetail", "params": {"sailing": "1"}, "time": 0},
        view("SailingDetail", params={"sailing": "1"}, time=400),
        view("SailingDetail", params={"sailing": "1"}, time=900),
        view("SailingDetail", time=9000),
        view("SailingDetail", params={"sailing": "2"}, time=12000),
    )
    assert [(s["move"], s["params"], len(s["rows"])) for s in steps] == [
        ("push", '{"sailing": "1"}', 4),
        ("update", '{"sailing": "2"}', 1),
    ]
    assert steps[0]["load_ms"] == 400
    assert steps[0]["dwell_ms"] == 11600
    assert steps[1]["dwell_ms"] is None


def test_moves_that_do_not_name_their_screen(tmp_path: Path) -> None:
    steps = told(
        tmp_path,
        {"event": "app_start"},
        view("SailingsBoard"),
        {"event": "push", "screen": "SailingDetail"},
        {"event": "pop"},
        {"event": "forward"},
        {"event": "switch_tab", "tab": "Harbour"},
        {"event": "open_modal", "screen": "RateSheet"},
        {"event": "close_modal"},
        {"event": "switch_tab", "tab": "Sailings"},
    )
    assert [s["screen"] for s in steps] == [
        "SailingsBoard",
        "SailingDetail",
        "SailingsBoard",
        "SailingDetail",
        "HarbourMap",
        "RateSheet",
        "HarbourMap",
        "SailingDetail",
    ]


def test_a_receipt_that_goes_back_by_pushing_piles_up(tmp_path: Path) -> None:
    steps = told(
        tmp_path,
        {"event": "app_start"},
        view("PassWallet"),
        {"event": "push", "screen": "Receipt"},
        {"event": "push", "screen": "PassWallet"},
        view("PassWallet", tab="Me", time=115_300),
    )
    assert steps[2]["depth"] == 3
    assert steps[2]["marks"] == ["piled_up", "tab_mismatch"]


def test_a_log_of_views_only_is_inferred_and_says_so(tmp_path: Path) -> None:
    screens = ["Splash", "SailingsBoard", "SailingDetail", "SailingsBoard", "HarbourMap"]
    screens += ["RateSheet", "HarbourMap", "PierDetail", "SailingsBoard", "SignIn"]
    steps = told(tmp_path, {"event": "app_start"}, *map(view, screens))
    assert [s["move"] for s in steps] == [
        "start",
        "replace",
        "push",
        "pop",
        "switch_tab",
        "open_modal",
        "close_modal",
        "push",
        "switch_tab",
        "redirect",
    ]
    assert [s["inferred"] for s in steps] == [False] + [True] * 9


def test_without_a_map_every_screen_is_used_as_it_is_called(tmp_path: Path) -> None:
    names = ["<script>alert(1)</script>", "שלום", "x" * 200, "🚢"]
    rows = [{"event": "push", "screen": name} for name in names]
    steps = told(tmp_path, *rows, {"event": "pop"}, app_map=AppMap.from_dict({}))
    assert [s["screen"] for s in steps] == [*names, "x" * 200]
    assert all("unknown_screen" in s["marks"] for s in steps)
    assert [s["depth"] for s in steps] == [1, 2, 3, 4, 3]


def test_a_refused_link_remembers_what_was_wanted(tmp_path: Path) -> None:
    steps = told(
        tmp_path,
        {"event": "app_start"},
        {"event": "open_link", "uri": "skerry://pass/7", "source": "web"},
        view("Splash"),
        {"event": "redirect", "screen": "SignIn", "from": "PassDetail", "via": "replace"},
        view("SignIn", time=115_400),
        {"event": "replace", "screen": "PassDetail", "params": {"pass": "7"}},
    )
    assert [s["screen"] for s in steps] == ["Splash", "SignIn", "PassDetail"]
    gate = steps[1]
    assert (gate["move"], gate["wanted"], gate["link"]) == (
        "redirect",
        "PassDetail",
        "skerry://pass/7",
    )
    assert gate["below"] is None
    assert steps[2]["tab"] == "Passes"


def test_gates_that_send_to_each_other_are_a_loop(tmp_path: Path) -> None:
    bounced = [("SignIn", "PassWallet"), ("PassWallet", "SignIn"), ("SignIn", "PassWallet")]
    steps = told(
        tmp_path,
        {"event": "app_start"},
        view("SailingsBoard"),
        *({"event": "redirect", "screen": to, "from": of} for to, of in bounced),
        {"event": "push", "screen": "CodeEntry"},
        {"event": "redirect", "screen": "SignIn", "from": "MeHome"},
    )
    loops = [s["step"] for s in steps if "gate_loop" in s["marks"]]
    assert loops == [3, 4], "not the first, and not the one after another step"


def test_a_placeholder_in_a_link_is_told(tmp_path: Path) -> None:
    link = {"event": "open_link", "source": "web"}
    steps = told(
        tmp_path,
        {"event": "app_start"},
        {**link, "uri": "skerry://sailing/-1"},
        view("SailingDetail", params={"sailing": "-1"}),
        {**link, "uri": "skerry://sailing/7"},
        view("SailingDetail", params={"sailing": "7"}),
    )
    assert ["placeholder" in s["marks"] for s in steps] == [True, False]


def test_back_into_the_way_in_is_told(tmp_path: Path) -> None:
    rows = ({"event": "app_start"}, view("SignIn"), {"event": "push", "screen": "SailingsBoard"})
    kept = replace(THE_MAP, history={**THE_MAP.history, "outside": "kept"})
    assert told(tmp_path, *rows)[1]["marks"] == []
    (_, inside) = told(tmp_path, *rows, app_map=kept)
    assert (inside["marks"], inside["below"], inside["depth"]) == (["back_to_gate"], "SignIn", 1)


def test_moves_that_do_not_take_place_are_counted_on_the_step(tmp_path: Path) -> None:
    steps = told(
        tmp_path,
        {"event": "app_start"},
        view("MeHome"),
        {"event": "push", "screen": "Settings"},
        {"event": "push", "screen": "Refund"},
        {"event": "blocked", "screen": "Refund"},
        {"event": "pop", "screen": "MeHome"},
        {"event": "leave_prompt", "outcome": "stayed"},
        {"event": "pop", "screen": "Settings"},
        view("Settings", time=135_300),
        {"event": "pop", "screen": "MeHome"},
    )
    assert [s["screen"] for s in steps] == ["MeHome", "Settings", "MeHome"]
    assert [s["marks"] for s in steps] == [[], ["stuck"], []]


def test_a_deep_stack_and_a_long_session_are_not_recursed_into(tmp_path: Path) -> None:
    down = [{"event": "push", "screen": f"S{i}", "time": i} for i in range(5000)]
    back = [{"event": "pop", "time": 5000 + i} for i in range(4999)]
    steps = told(tmp_path, *down, *back, app_map=AppMap.from_dict({}))
    assert max(s["depth"] for s in steps) == 5000
    assert (steps[-1]["screen"], steps[-1]["depth"]) == ("S0", 1)


def test_sessions_are_cut_by_id_or_by_idleness(tmp_path: Path) -> None:
    minute = 60 * SECOND
    steps = told(
        tmp_path,
        view("A", time=0),
        view("B", time=29 * minute),
        view("C", time=60 * minute),
        view("D", time=61 * minute, session="s1"),
        view("E", time=200 * minute, session="s1"),
        view("F", time=201 * minute, session="s2"),
    )
    starts = [s["screen"] for s in steps if s["step"] == 1]
    assert starts == ["A", "C", "F"]
    assert [s["session"] for s in steps][3:] == ["s1", "s1", "s2"]


def test_an_empty_log_has_no_steps(app_map: AppMap) -> None:
    empty = merge([])
    assert len(replay(empty, app_map).steps.entry) == 0
    assert Study([], app_map).index.start.shape == (0,)
    assert [len(part) for part in split(empty, 4)] == [0, 0, 0, 0]


def test_what_stands_again_after_a_restart_is_no_step_but_a_start(tmp_path: Path) -> None:
    """The journey begins on it, and its start landed there at once."""
    restored = replace(THE_MAP, history={**THE_MAP.history, "restart": "restore"})
    start = {"event": "app_start", "session": "s2", "time": 7_200_000}
    rows = (
        {"event": "app_start", "session": "s1"},
        view("PassWallet", session="s1"),
        {"event": "open_modal", "screen": "TermsSheet", "session": "s1"},
        start,
        view("TermsSheet", session="s2", time=7_200_400),
        view("TermsSheet", session="s2", time=7_260_000),
        {"event": "close_modal", "session": "s2", "time": 7_290_000},
    )
    steps = told(tmp_path, *rows, app_map=restored)
    assert [(s["session"], s["screen"], s["move"]) for s in steps] == [
        ("s1", "PassWallet", "start"),
        ("s1", "TermsSheet", "open_modal"),
        ("s2", "PassWallet", "close_modal"),
    ]
    (part,) = Study(split(read_files([tmp_path / "log.jsonl"]).log, 1), restored).parts
    starts = startup.label(part, np.ones(2, bool))
    assert starts.took.tolist() == [5_000_000, 400_000]
    assert [startup.LANDINGS[code] for code in starts.landing] == ["inside", "elsewhere"]


def test_the_words_of_libraries_are_worked_out_from_the_stacks(tmp_path: Path) -> None:
    steps = told(
        tmp_path,
        {"event": "didFinishLaunching", "screen": "SailingsBoard"},
        {"event": "NAVIGATE", "screen": "SailingDetail", "params": {"sailing": "1"}},
        {"event": "NAVIGATE", "screen": "SailingDetail", "params": {"sailing": "2"}},
        {"event": "NAVIGATE", "screen": "PassDetail"},
        {"event": "JUMP_TO", "tab": "Sailings"},
        {"event": "presentViewController", "screen": "RateSheet"},
        {"event": "GO_BACK", "screen": "SailingDetail", "params": {"sailing": "2"}},
        {"event": "popstate", "screen": "SailingsBoard"},
        {"event": "popstate", "screen": "SailingDetail", "params": {"sailing": "2"}},
        {"event": "pushState", "screen": "SeatPick"},
        {"event": "POP_TO_TOP"},
        {"event": "NAVIGATE", "screen": "PassDetail"},
    )
    assert [(s["screen"], s["move"], s["depth"]) for s in steps] == [
        ("SailingsBoard", "start", 1),
        ("SailingDetail", "push", 2),
        ("SailingDetail", "update", 2),
        ("PassDetail", "push", 2),
        ("SailingDetail", "switch_tab", 2),
        ("RateSheet", "open_modal", 1),
        ("SailingDetail", "close_modal", 2),
        ("SailingsBoard", "pop", 1),
        ("SailingDetail", "forward", 2),
        ("SeatPick", "push", 3),
        ("SailingsBoard", "pop_to", 1),
        ("PassDetail", "switch_tab", 2),
    ]


def test_a_link_that_moves_answer_is_one_step_on_its_own_tab(tmp_path: Path) -> None:
    link = {"event": "open_link", "source": "web"}
    steps = told(
        tmp_path,
        {"event": "app_start", "screen": "SailingDetail"},
        {**link, "uri": "skerry://sailing/3"},
        {**link, "uri": "skerry://pass/7"},
        {"event": "push", "screen": "PassDetail", "params": {"pass": "7"}, "tab": "Passes"},
        {**link, "uri": "skerry://pass/7"},
        {"event": "update", "screen": "PassDetail", "params": {"pass": "8"}},
        {**link, "uri": "skerry://lost"},
        {"event": "push", "screen": "NotFound", "time": 130_500},
        {"event": "push", "screen": "PierDetail", "time": 190_000},
    )
    assert [(s["screen"], s["move"], s["tab"], s["depth"], s["below"]) for s in steps] == [
        ("SailingDetail", "link", "Sailings", 2, "SailingsBoard"),
        ("PassDetail", "link", "Passes", 2, "PassWallet"),
        ("PassDetail", "update", "Passes", 2, "PassWallet"),
        ("NotFound", "link", "Passes", 3, "PassDetail"),
        ("PierDetail", "push", "Harbour", 2, "HarbourMap"),
    ]
    assert [s["link"] for s in steps][:3] == ["skerry://sailing/3", "skerry://pass/7", None]


def test_of_one_moment_what_led_comes_before_the_view(tmp_path: Path) -> None:
    """As clocks of whole seconds tell it, in a file that has views first."""
    told = [
        ("00", "app_start", "", ""),
        ("01", "screen_view", "SailingsBoard", ""),
        ("05", "screen_view", "PierDetail", ""),
        ("05", "open_link", "", "https://skerry.example/pier/4"),
        ("09", "screen_view", "ParkingInfo", ""),
        ("09", "push", "ParkingInfo", ""),
    ]
    path = tmp_path / "seconds.jsonl"
    rows = [
        {"time": f"2026-05-04T10:00:{t}Z", "user": "u", "event": e, "screen": s, "uri": u}
        for t, e, s, u in told
    ]
    path.write_text("".join(json.dumps(row) + "\n" for row in rows))
    study = Study(split(read_files([path]).log, 1), THE_MAP)
    assert [step["move"] for step in steps_of(study)] == ["start", "link", "push"]
    figures = links.measure(study, Scope())
    assert figures.every.landed["target"].times == figures.every.opened.times == 1
