"""Files as strangers shape them: what is proposed for them leads to the true figures."""

from __future__ import annotations

import json
from dataclasses import asdict, replace
from datetime import UTC, datetime
from functools import cache
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import pytest

from mossy_trail.core.model.log import split
from mossy_trail.core.model.scope import Scope
from mossy_trail.demo.simulator import simulate
from mossy_trail.engine import links, sign_in, tabs
from mossy_trail.engine.study import Study
from mossy_trail.intake.reader import LogFile, look, preview, read_files
from tests.core.test_replay import THE_MAP
from tests.intake.shapes.written import SHAPES, Row, address

CORRECTIONS: dict[str, dict[str, Any]] = {}
"""Per shape, what a person has to say beside the proposal."""


ROUTED = replace(
    THE_MAP,
    screens=tuple(
        replace(
            s, routes=tuple(address(s.name, p).partition("example")[2] for p in ({}, {"": "{id}"}))
        )
        for s in THE_MAP.screens
    ),
)
"""The map of a site on which each screen has an address."""


@cache
def rows() -> list[Row]:
    """With the time as the text that our own files have."""
    told = simulate(8_000, 5).rows
    return [{**row, "time": _told_as(row["time"])} for row in told]


def _told_as(milliseconds: int) -> str:
    return datetime.fromtimestamp(milliseconds / 1000, UTC).isoformat(timespec="milliseconds")


def figures(study: Study) -> dict[str, Any]:
    """What is shown of signing in, links and tabs: all counts, but no times."""
    scope = Scope()
    return {
        "sign in": _counts(asdict(sign_in.measure(study, scope))),
        "links": _counts(asdict(links.measure(study, scope))),
        "tabs": _counts(asdict(tabs.measure(study, scope))),
    }


def _counts(told: Any) -> Any:
    if isinstance(told, dict):
        return {k: _counts(v) for k, v in told.items() if k not in ("dwell", "time_to", "steps")}
    if isinstance(told, list | tuple):
        return sorted((_counts(one) for one in told), key=repr)
    return None if isinstance(told, float) else told


@cache
def truth() -> dict[str, Any]:
    with TemporaryDirectory() as folder:
        path = Path(folder) / "own.jsonl"
        path.write_text("".join(json.dumps(row) + "\n" for row in rows()))
        return figures(Study(split(read_files([path]).log, 1), THE_MAP))


@pytest.mark.parametrize("name", SHAPES)
def test_the_proposal_leads_to_the_true_figures(name: str, tmp_path: Path) -> None:
    path = SHAPES[name](rows(), tmp_path)
    proposed = preview(look(LogFile(path))).mapping
    corrected = replace(proposed, **CORRECTIONS.get(name, {}))
    reading = read_files([path], mapping=corrected)
    assert reading.set_aside == []
    found = figures(Study(split(reading.log, 1), ROUTED if name == "whole_addresses" else THE_MAP))
    for figure, true in truth().items():
        assert found[figure] == true, figure
