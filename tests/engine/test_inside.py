"""Tabs, loops, links and drop-offs: the figures are the true ones, and all of them open."""

from __future__ import annotations

import json
import statistics
from collections import Counter
from collections.abc import Iterator
from dataclasses import asdict, fields, is_dataclass
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from mossy_trail.core.measures.links import shape
from mossy_trail.core.model.app_map import AppMap
from mossy_trail.core.model.log import Log, split
from mossy_trail.core.model.scope import Scope
from mossy_trail.engine import dropoffs, links, loops, tabs
from mossy_trail.engine.celled import Count
from mossy_trail.engine.links import closest
from mossy_trail.engine.registry import EVIDENCE
from mossy_trail.engine.scoped import scope_mask
from mossy_trail.engine.study import Study
from mossy_trail.engine.trend import trend
from mossy_trail.intake.reader import read_files
from tests.conftest import Demo
from tests.engine.test_getting_in import SCOPES, group_of, sessions

MEASURES: dict[str, Any] = {
    "tabs": tabs.measure,
    "loops": loops.measure,
    "links": lambda study, scope: links.measure(study, scope, "Receipt" if study.parts else ""),
    "drop-offs": dropoffs.measure,
}


@pytest.mark.parametrize(("group", "scope"), SCOPES)
def test_figures_are_the_planted_ones(study: Study, demo: Demo, group: str, scope: Scope) -> None:
    def planted(name: str) -> int:
        return int(demo.figures["planted"][name].get(group, 0))

    use = tabs.measure(study, scope)
    by_tab = {tab.name: tab for tab in use.tabs}
    assert by_tab["Passes"].mismatch.times == planted("wrong_tabs")
    (passes,) = use.filters
    assert passes.used.times == planted("filter_uses") > 0
    wallet = next(one for one in dropoffs.measure(study, scope).screens if one.screen == passes.on)
    assert (passes.visits.times, passes.visits.users) == (wallet.visits.times, wallet.visits.users)
    screens = {screen.name: screen for screen in loops.measure(study, scope).screens}
    assert screens["PassWallet"].piled.times == planted("piled_receipts")
    assert screens["RateSheet"].dead_end.times == planted("rate_sheet_ends")
    found = links.measure(study, scope)
    ends = {end: count.times for end, count in found.every.landed.items()}
    assert ends["target"] + ends["not_found"] == planted("links_landed")
    assert ends["recovered"] + ends["lost"] == planted("links_gated")
    assert ends["not_found"] == planted("not_found_links")
    assert found.every.placeholder.times == planted("placeholder_links")
    for rows in (found.patterns, found.sources, found.starts):
        assert sum(row.opened.times for row in rows) == found.every.opened.times
        for end in ends:
            assert sum(row.landed[end].times for row in rows) == ends[end]


def test_a_token_that_ran_out_sends_round_in_a_loop(study: Study, demo: Demo) -> None:
    """Most of these loops, and of their journeys, are of 3.1."""
    found = [loop for loop in loops.measure(study, Scope()).loops if loop.kind == "redirect_loop"]
    worst = max(found, key=lambda loop: loop.count.times)
    assert set(worst.screens) == {"SignIn", "PassWallet"}
    split_up = trend(study, Scope(), "loops", worst.count.figure, "version", two=("3.1", "3.2"))
    shares = {part.value: part.figure.count for part in split_up.points if part.figure}
    assert shares["3.1"] >= demo.figures["planted"]["gate_loops"]["all"] * 0.8
    assert split_up.between
    assert split_up.between.low > 0


def test_the_worst_drop_offs_come_first_and_exits_are_the_true_ones(
    study: Study, demo: Demo
) -> None:
    found = dropoffs.measure(study, Scope())
    assert [one.screen for one in found.screens[:2]] == ["RateSheet", "Alerts"]
    true = Counter(steps[-1]["screen"] for steps in sessions(demo).values())
    own = {one.screen: one.exits.times for one in found.screens}
    missing = sum(true.values()) - sum(own.values())
    assert 0 <= missing < 20, "only what the log's end cut off"
    assert all(0 <= true[screen] - n <= missing for screen, n in own.items())
    lengths = [len(steps) for steps in sessions(demo).values()]
    assert all(s.journeys == sum(n >= s.mark for n in lengths) for s in found.by_steps)
    assert sum(one.expected for one in found.screens) == pytest.approx(
        sum(one.true.times for one in found.screens), rel=1e-3
    ), "what the model leaves out, it adds elsewhere"
    for one in found.screens:
        assert sum(count.times for count in one.kinds.values()) == one.exits.times
        assert sum(count.times for count in one.why.values()) == one.exits.times


def test_switches_are_the_true_ones(study: Study, demo: Demo) -> None:
    true: Counter[tuple[str, str]] = Counter()
    for steps in sessions(demo).values():
        tab = ""
        for before, step in pairwise([{"tab": "", "region": ""}, *steps]):
            tab = before["tab"] or (tab if before["region"] == "sheet" else "")
            if step["move"] == "switch_tab" and tab and step["tab"] and tab != step["tab"]:
                true[tab, step["tab"]] += 1
    found = tabs.measure(study, Scope())
    assert {(way.start, way.end): way.count.times for way in found.switches} == true


def test_what_came_after_a_link_is_the_true_way(study: Study, demo: Demo) -> None:
    """Of links to BuyPass, whose truth is told by the steps that bear the move."""
    more, reached = [], 0
    for steps in sessions(demo).values():
        for i, step in enumerate(steps):
            if step["move"] == "link" and step["screen"] == "BuyPass":
                more.append(len(steps) - 1 - i)
                reached += any(later["screen"] == "Receipt" for later in steps[i:])
    found = links.measure(study, Scope(), "Receipt")
    own = next(one for one in found.patterns if one.name == "skerry://pass/buy")
    at_once = own.landed["target"].times
    assert at_once == len(more)
    assert own.then.goal
    assert reached <= own.then.goal.times <= reached + own.landed["recovered"].times
    assert own.then.after["bounced"].times >= more.count(0) > 0
    assert own.then.more
    assert own.then.more.median == pytest.approx(statistics.median(more), abs=1)
    linked = {s for s, steps in sessions(demo).items() if "link" in {x["move"] for x in steps}}
    assert found.without.journeys <= len(sessions(demo)) - len(linked)
    assert sum(n.times for n in found.without_then.after.values()) == found.without.times


def counts(figures: Any) -> Iterator[Count]:
    """Every count that figures have anywhere in them."""
    if isinstance(figures, Count):
        yield figures
    elif isinstance(figures, dropoffs.Survivors):
        yield Count(figures.figure, figures.journeys, figures.journeys, 0)
    elif is_dataclass(figures):
        for one in fields(figures):
            yield from counts(getattr(figures, one.name))
    elif isinstance(figures, dict):
        for value in figures.values():
            yield from counts(value)
    elif isinstance(figures, list):
        for value in figures:
            yield from counts(value)


@pytest.mark.parametrize("measure", MEASURES)
@pytest.mark.parametrize("scope", [Scope(), group_of("3.1", "ios")], ids=["all", "group"])
def test_every_figure_opens_to_its_journeys(study: Study, measure: str, scope: Scope) -> None:
    inside, opened = scope_mask(study, scope), 0
    user = study.index.user
    for count in counts(MEASURES[measure](study, scope)):
        if count.times:
            behind = EVIDENCE[measure](study, scope, count.figure)
            assert behind.sum() == count.journeys <= count.times, count
            assert count.users in (0, len(np.unique(user[behind]))), count
            assert not (behind & ~inside).any()
            opened += 1
    assert opened > 10
    for wrong in ('["moon"]', "[1]", "{}", "]"):
        with pytest.raises(KeyError):
            EVIDENCE[measure](study, scope, wrong)


def test_figures_do_not_depend_on_the_parts(demo_log: Log, study: Study) -> None:
    other = Study(split(demo_log, 7), study.app_map)
    for measure in (tabs.measure, MEASURES["links"]):
        assert asdict(measure(study, Scope())) == asdict(measure(other, Scope()))
    one, two = (asdict(loops.measure(s, Scope())) for s in (study, other))
    assert one == two
    a, b = (dropoffs.measure(s, Scope(), "Receipt") for s in (study, other))
    assert [x.screen for x in a.screens] == [x.screen for x in b.screens]
    assert [x.excess for x in a.screens] == pytest.approx([x.excess for x in b.screens])
    assert a.goal_chance == pytest.approx(b.goal_chance)


@pytest.mark.parametrize(
    ("link", "differs"),
    [
        ("https://skerry.example/Pier/7", "upper and lower case"),
        ("https://skerry.example/pier/{pier}/", "a slash at the end"),
        ("https://other.example/pier/7", "the host other.example"),
        ("skerry://pier/7", "the scheme skerry"),
        ("https://skerry.example/pier/", "no value for pier"),
        ("https://skerry.example/pier", "no value for pier"),
        ("https://skerry.example/boats/7/crew", "the path"),
    ],
)
def test_what_differs_from_the_closest_pattern_is_told(link: str, differs: str) -> None:
    pattern = "https://skerry.example/pier/{pier}"
    assert closest(shape(link), [pattern]) == (pattern, differs)


def test_nothing_has_figures_too() -> None:
    empty = Study([], AppMap.from_dict({}))
    for measure in MEASURES.values():
        assert measure(empty, Scope()).in_scope == 0
        assert json.dumps(asdict(measure(empty, Scope())))


def test_links_that_differ_in_ids_alone_are_one_figure(tmp_path: Path) -> None:
    path = tmp_path / "log.csv"
    rows = ["open_link,,x://a/1", "screen_view,A,", "open_link,,x://a/27", "screen_view,B,"]
    timed = [f"{1777888800 + 9 * i},u,{row}" for i, row in enumerate(rows)]
    path.write_text("\n".join(["time,user,event,screen,uri", *timed]))
    study = Study(split(read_files([path]).log, 1), AppMap.from_dict({}))
    (one,) = links.measure(study, Scope()).unmatched
    assert (one.link, one.count.times, one.count.journeys) == ("x://a/{id}", 2, 1)
    assert EVIDENCE["links"](study, Scope(), one.count.figure).sum() == 1
