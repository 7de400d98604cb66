"""A measure that is but registered has all that every measure has."""

from __future__ import annotations

import importlib
import json
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pytest
from numpy.typing import NDArray
from typer.testing import CliRunner

from mossy_trail import cli
from mossy_trail.core.measures.cells import Grid, cells
from mossy_trail.core.model.scope import Part, Scope
from mossy_trail.core.model.steps import Steps
from mossy_trail.core.stats.intervals import Share, share
from mossy_trail.demo.simulator import simulate, write
from mossy_trail.engine.celled import Count, Counts, Labels, journeys_of, tallied
from mossy_trail.engine.measures import behind, measured
from mossy_trail.engine.registry import EVIDENCE, MEASURES, evidence_of, measure_of
from mossy_trail.engine.scoped import each_inside, scope_mask
from mossy_trail.engine.study import Study
from mossy_trail.engine.trend import trend
from mossy_trail.web.app import create_app


@dataclass(frozen=True)
class LongFigures:
    in_scope: int
    long: Count
    of_all: Share


def label(steps: Steps, inside: NDArray[np.bool_]) -> Labels:
    """Journeys of more than ten steps."""
    found = np.flatnonzero(inside & (steps.journeys.steps > 10))
    return {"long": cells(Grid([""]), np.zeros(len(found), "i8"), found)}


def labelled(steps: Steps, inside: NDArray[np.bool_]) -> tuple[Labels, None]:
    return label(steps, inside), None


@pytest.fixture
def toy() -> Iterator[None]:
    @measure_of("long-ones")
    def measure(study: Study, scope: Scope) -> LongFigures:
        """Journeys of more than ten steps."""
        counts = Counts(each_inside(study, scope, lambda s, i: tallied(s, label(s, i))))
        total, long = int(scope_mask(study, scope).sum()), counts.of("long", "")
        return LongFigures(total, long, share(long.journeys, total))

    @evidence_of("long-ones")
    def evidence(study: Study, scope: Scope, figure: str) -> NDArray[np.bool_]:
        return journeys_of(study, scope, "long-ones", labelled, figure)

    yield
    del MEASURES["long-ones"], EVIDENCE["long-ones"]
    importlib.reload(cli)


@pytest.mark.usefixtures("toy")
def test_a_measure_is_one_file(study: Study, tmp_path: Path) -> None:
    found = measured(study, Scope(), "long-ones", by="version", two=("3.1", "3.2"))
    assert 0 < found.whole.long.journeys < found.whole.in_scope
    figure = found.whole.long.figure
    assert behind(study, Scope(), "long-ones", figure).sum() == found.whole.long.journeys
    for group in found.groups:
        part = Scope(part=Part(group.value, by="version"))
        opened = behind(study, part, "long-ones", figure).sum()
        assert opened == group.figures.long.journeys > 0
    assert found.between
    assert found.between.keys() == {"of_all"}
    weeks = measured(study, Scope(), "long-ones", over="week").groups
    assert [week.value for week in weeks] == [
        "2026-05-04",
        "2026-05-11",
        "2026-05-18",
        "2026-05-25",
    ]
    told = trend(study, Scope(unit="users"), "long-ones", figure, "platform")
    assert {part.value for part in told.points} == {"android", "ios"}
    path = "/api/apps/{app}/measures/long-ones"
    assert create_app().openapi()["paths"][path]["get"]["summary"].startswith("Journeys of more")
    log, *_ = write(simulate(500, 1), tmp_path)
    run = CliRunner().invoke(importlib.reload(cli).cli, ["measure", "long-ones", str(log)])
    assert json.loads(run.stdout)["whole"]["long"]["journeys"] > 0
