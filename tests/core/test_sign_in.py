"""Sign-in figures against the simulator's truth, and evidence against figures."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

import numpy as np
import pytest

from mossy_trail.core.measures import sign_in as measure
from mossy_trail.core.model.app_map import AppMap
from mossy_trail.core.model.log import NONE, Log, split
from mossy_trail.core.model.scope import Scope, Unit
from mossy_trail.engine import sign_in
from mossy_trail.engine.study import Study
from tests.conftest import Demo


def as_truth_tells(found: dict[str, Any]) -> dict[str, Any]:
    """The figures in the words of the simulator's own."""
    count = {stage["figure"]: stage["count"] for stage in found["stages"]}
    lost: dict[str, dict[str, int]] = {"met": {}, "tried": {}}
    for loss in found["losses"]:
        lost[loss["stage"]][loss["way"]] = loss["share"]["count"]
    times = {s["figure"]: list(s["time_to"].values()) for s in found["stages"] if s["time_to"]}
    return {
        "all": found["all"],
        **count,
        "restored": found["restored"],
        "lost": lost,
        "met_to_tried_ms": times["tried"],
        "tried_to_in_ms": times["in"],
    }


@pytest.mark.parametrize("unit", ["sessions", "users"])
def test_the_figures_are_the_true_ones(study: Study, demo: Demo, unit: Unit) -> None:
    found = asdict(sign_in.measure(study, Scope(unit=unit)))
    told = as_truth_tells(found)
    true = dict(demo.figures[unit])
    for times in ("met_to_tried_ms", "tried_to_in_ms"):
        assert told.pop(times) == pytest.approx(true.pop(times))
    assert told == true


@pytest.mark.parametrize("unit", ["sessions", "users"])
def test_every_figure_opens_as_many_journeys_as_it_counts(study: Study, unit: Unit) -> None:
    week = Scope(1778457600_000_000, 1779062400_000_000, unit)
    for scope in (Scope(unit=unit), week):
        found = sign_in.measure(study, scope)
        counts = {stage.figure: stage.count for stage in found.stages}
        counts |= {loss.figure: loss.share.count for loss in found.losses}
        counts |= {"all": found.all, "restored": found.restored}
        for figure in measure.figures():
            journeys = int(sign_in.evidence(study, scope, figure).sum())
            assert journeys == counts.get(figure, journeys if figure in LOST else 0), figure
        assert counts["met"] - counts["tried"] == opened(study, scope, "lost_met")
        assert counts["tried"] - counts["in"] == opened(study, scope, "lost_tried")
    assert 0 < sign_in.measure(study, week).all < sign_in.measure(study, Scope(unit=unit)).all


LOST = ("lost_met", "lost_tried")


def opened(study: Study, scope: Scope, figure: str) -> int:
    return int(sign_in.evidence(study, scope, figure).sum())


def test_the_figures_do_not_depend_on_the_parts(demo_log: Log, app_map: AppMap) -> None:
    tallies = [
        asdict(sign_in.measure(Study(split(demo_log, parts), app_map), Scope()))
        for parts in (1, 2, 13)
    ]
    assert tallies[0] == tallies[1] == tallies[2]


def test_no_figure_of_another_name(study: Study) -> None:
    for name in ("", "lost", "lost_met.restored", "none", "met.ended"):
        with pytest.raises(KeyError):
            sign_in.evidence(study, Scope(), name)


def test_nothing_to_measure(app_map: AppMap) -> None:
    found = sign_in.measure(Study([], app_map), Scope())
    assert ([stage.count for stage in found.stages], found.told) == ([0], False)
    assert found.stages[0].of_first.low == 0.0
    assert found.stages[0].of_first.high == 1.0
    assert np.array_equal(sign_in.evidence(Study([], app_map), Scope(), "met"), [])


def test_of_a_log_without_outcomes_nothing_is_said_of_tries_and_losses(
    demo_log: Log, app_map: AppMap
) -> None:
    untold = {**demo_log.columns, "outcome": np.full(len(demo_log), NONE, "int8")}
    found = sign_in.measure(Study(split(Log(untold, demo_log.terms), 2), app_map), Scope())
    assert ([stage.figure for stage in found.stages], found.losses) == (["met"], [])
    assert (found.told, found.stages[0].count > 0) == (False, True)
