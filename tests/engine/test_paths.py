"""Figures of paths: each opens as many journeys, or users, as it says."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
import pytest
from pydantic import ValidationError

from mossy_trail.core.model.scope import Scope
from mossy_trail.engine.measures import behind, measured
from mossy_trail.engine.paths import PathFigures, PathParams
from mossy_trail.engine.study import Study

ASKED: list[dict[str, Any]] = [
    {},
    {"reading": "kept", "nodes": "role", "whole": True},
    {"at": "screen", "what": "RateSheet", "direction": "backward"},
    {"at": "screen", "what": "SailingsBoard", "reading": "kept", "deep": 3, "repeats": True},
    {"at": "exit", "screen": "PassWallet", "direction": "backward", "nodes": "tab"},
    {"at": "event", "what": "sign_in failed", "deep": 2},
    {"at": "entry", "what": "link", "whole": True},
]


def told(figures: PathFigures) -> Iterator[tuple[str, int]]:
    """Every figure, and how many it says there are."""
    yield figures.figure, figures.met.count
    if figures.taken_back:
        yield figures.taken_back.figure, figures.taken_back.count
    for column in figures.columns:
        for node in column.nodes:
            yield node.figure, node.share.count
            if node.detours:
                yield node.detours.figure, node.detours.count
    for flow in figures.flows:
        yield flow.figure, flow.count
    for way in (*figures.ways, *figures.wholes):
        yield way.figure, way.share.count


@pytest.mark.parametrize("unit", ["sessions", "users"])
@pytest.mark.parametrize("asked", ASKED, ids=str)
def test_every_figure_opens_as_many_as_it_says(
    study: Study, asked: dict[str, Any], unit: Any
) -> None:
    scope = Scope(unit=unit)
    found: PathFigures = measured(study, scope, "paths", PathParams(**asked)).whole
    assert found.met.count > 30
    for column in found.columns:
        drawn = sum(node.share.count for node in column.nodes if node.drawn)
        assert drawn + column.ended == found.met.count
    figures = list(told(found))
    assert len({figure for figure, _ in figures}) == len(figures)
    for figure, count in figures:
        mask = behind(study, scope, "paths", figure)
        users = np.unique(study.index.user[mask])
        assert count == (len(users) if unit == "users" else mask.sum()), figure


def test_whole_ways_share_out_all_paths(study: Study) -> None:
    asked = PathParams(whole=True, deep=1)
    found: PathFigures = measured(study, Scope(), "paths", asked).whole
    assert max(len(way.nodes) for way in found.wholes) > 2
    told = sum(way.share.count for way in found.wholes)
    assert found.met.count - found.wholes_left_out >= told > 100
    plain: PathFigures = measured(study, Scope(), "paths", PathParams(deep=1)).whole
    assert [way.share for way in plain.ways] == [way.share for way in found.ways]
    assert (plain.wholes, plain.wholes_left_out) == ([], 0)


def test_flows_out_of_a_node_are_as_many_as_go_on_from_it(study: Study) -> None:
    found: PathFigures = measured(study, Scope(), "paths", PathParams(reading="kept")).whole
    for i, column in enumerate(found.columns[:-1]):
        drawn = [node for node in column.nodes if node.drawn]
        for place, node in enumerate(drawn):
            out = sum(f.count for f in found.flows if (f.column, f.start) == (i, place))
            assert out == (0 if node.kind in ("ended", "cut") else node.share.count)


@pytest.mark.parametrize(
    ("asked", "fault"),
    [
        ({"at": "exit"}, "nothing comes after an exit"),
        ({"direction": "backward"}, "nothing comes before an entry"),
        ({"what": "warmish"}, "none of cold, warm, link"),
    ],
)
def test_what_cannot_be_asked_is_said(asked: dict[str, Any], fault: str) -> None:
    with pytest.raises(ValidationError, match=fault):
        PathParams(**asked)


@pytest.mark.parametrize(
    "figure",
    [
        '{"paths":{},"cell":["at","9","node","Splash"]}',
        '{"paths":{},"cell":["at","x","node","Splash"]}',
        '{"paths":{},"cell":["at","1","node","No such"]}',
        '{"paths":{},"cell":["flow","5","node","Splash","node","Splash"]}',
        '{"paths":{},"cell":["at"]}',
        '{"paths":{},"cell":[]}',
        '{"paths":{"deep":99},"cell":["met"]}',
        '{"paths":{},"cell":["whole","Splash"]}',
        '{"paths":{"at":"screen"},"cell":["met"]}',
        '{"paths":[],"cell":"met"}',
        '{"cell":["met"]}',
    ],
)
def test_there_is_no_other_figure(study: Study, figure: str) -> None:
    with pytest.raises(KeyError):
        behind(study, Scope(), "paths", figure)
