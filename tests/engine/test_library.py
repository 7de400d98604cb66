"""Mossy Trail as a library: what the command line tells, as a script would ask for it."""

from __future__ import annotations

import doctest
import inspect
import json
from datetime import date
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import nbformat
import polars as pl
import pytest
from nbclient import NotebookClient

import mossy_trail as mt
from mossy_trail import library
from mossy_trail.core.model.scope import Scope
from mossy_trail.demo.load import MAP
from mossy_trail.engine.measures import measured
from mossy_trail.engine.registry import MEASURES
from mossy_trail.engine.study import Study
from tests.conftest import Demo


@pytest.fixture(scope="module")
def trail(demo: Demo) -> mt.Trail:
    return mt.read(demo.csv, map=MAP)


def test_every_measure_is_a_method_with_the_same_figures(trail: mt.Trail, study: Study) -> None:
    own = {
        "spec": json.dumps({"stages": [{"any": [{"screens": ["BuyPass"]}]}]}),
        "pattern": "BuyPass",
    }
    for name, measure in MEASURES.items():
        ask = getattr(trail, name.replace("-", "_"))
        assert measure.says in ask.__doc__
        known = inspect.signature(ask).parameters
        assert known.keys() >= {"by", "over", "versus", *measure.params.model_fields}
        params = {key: value for key, value in own.items() if key in measure.params.model_fields}
        told = ask(by="version", versus=("3.2", "3.1"), **params)
        asked = measure.params(**params)
        true = measured(study, Scope(), name, asked, "version", two=("3.2", "3.1"))
        assert told.as_dict() == true.as_dict(), name


def test_steps_and_journeys_are_tables_of_what_is_asked_of(trail: mt.Trail, demo: Demo) -> None:
    steps = pl.DataFrame(trail.steps)
    assert len(steps) == len(demo.truth)
    assert sorted(steps["screen"]) == sorted(step["screen"] for step in demo.truth)
    ios = trail.where({"property": "platform", "values": ["ios"]}, date(2026, 5, 10))
    journeys = pl.DataFrame(ios.journeys)
    assert set(pl.DataFrame(ios.steps)["user"]) == set(journeys["user"])
    assert 0 < len(journeys) < len(trail.journeys)
    assert f"{len(journeys):,} journeys" in repr(ios)
    loops = ios.loops().whole
    once = ios.behind("loops", loops.kinds["ping_pong"].figure)
    assert len(once.journeys) == loops.kinds["ping_pong"].journeys
    with pytest.raises(KeyError):
        trail.behind("loops", "moon")
    matches = pl.DataFrame(trail.matches("SailingsBoard SailingDetail"))
    assert len(matches) == trail.patterns(pattern="SailingsBoard SailingDetail").whole.matches.times
    assert len(trail.matches("Splash Splash Splash")) == 0


def test_what_is_told_of_figures_is_told_here_too(trail: mt.Trail) -> None:
    first = trail.findings().found[0]
    assert first.sentence.startswith("In version 3.2 on android")
    assert trail.compare("3.2", "3.1", by="version").looked_at > 100
    points = trail.trend(first.measure, first.figure, over="week").points
    assert len(points) == 4
    days = trail.where(since=date(2026, 5, 11), until=date(2026, 5, 17))
    assert len(days.journeys) == points[1].journeys


def test_pictures_are_drawings_that_a_notebook_shows(trail: mt.Trail) -> None:
    key = trail.journeys["key"][0].as_py()
    steps = trail.journeys["steps"][0].as_py()
    drawn = ElementTree.fromstring(trail.profile(key)._repr_svg_())
    assert len(drawn.findall("{*}circle")) == steps
    track = ElementTree.fromstring(trail.track()._repr_svg_())
    assert len(track.findall("{*}polygon")) == 5
    assert "Welcome" in "".join(track.itertext())


def test_a_map_is_drafted_where_none_is_given(demo: Demo, trail: mt.Trail) -> None:
    drafted = mt.read([demo.csv])
    assert abs(len(drafted.steps) - len(trail.steps)) < 0.02 * len(trail.steps)
    assert not hasattr(mt, "moon")


def test_examples_in_the_docs_hold() -> None:
    assert doctest.testmod(library).failed == 0


NOTEBOOK = Path(__file__).parents[2] / "docs" / "notebook.ipynb"


def test_the_notebook_tells_what_stands_in_it(tmp_path: Path) -> None:
    """Run anew, each cell gives the tables, sentences and pictures that it was kept with."""
    kept, anew = (nbformat.read(NOTEBOOK, as_version=4) for _ in range(2))
    resources = {"metadata": {"path": str(tmp_path)}}
    NotebookClient(anew, kernel_name="python3", timeout=None, resources=resources).execute()
    assert list(map(told_by, anew.cells)) == list(map(told_by, kept.cells))
    pictures = [text for cell in kept.cells for text in told_by(cell) if "<svg" in text]
    assert len(pictures) == 2
    for picture in pictures:
        ElementTree.fromstring(picture)


def told_by(cell: Any) -> list[str]:
    """What a cell of a notebook shows."""
    outputs = cell.get("outputs", [])
    data = [out.get("data", {"text/plain": out.get("text", "")}) for out in outputs]
    return [text for one in data for kind, text in sorted(one.items()) if kind != "text/html"]
