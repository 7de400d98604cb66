"""Every kernel at work once, so that no first import or question has to wait for it."""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np

from mossy_trail.core.log import EVENT, split
from mossy_trail.core.scope import Scope
from mossy_trail.demo.load import MAP
from mossy_trail.demo.simulator import simulate, write
from mossy_trail.engine import (
    dropoffs,
    funnel,
    gates,
    links,
    loops,
    onboarding,
    sign_in,
    startup,
    tabs,
)
from mossy_trail.engine.study import Study
from mossy_trail.intake.app_map_file import map_of, parse_map
from mossy_trail.intake.reader import read_files


def warm() -> None:
    """Run every kernel once on little: compiles those that are not yet, and loads them all."""
    with tempfile.TemporaryDirectory() as folder:
        csv, json_lines, *_ = write(simulate(500, 1), Path(folder))
        array = Path(folder) / "array.json"
        array.write_text(f"[{','.join(json_lines.read_text().splitlines())}]")
        reading = read_files([csv, json_lines, array])
    app_map = map_of(parse_map(MAP.read_text()))
    study = Study(split(reading.log, 1), app_map)
    sign_in.measure(study, Scope())
    startup.measure(study, Scope())
    gates.measure(study, Scope())
    for measure in (tabs.measure, loops.measure, links.measure, dropoffs.measure):
        measure(study, Scope())
    onboarding.measure(study, Scope())
    funnel.measure(study, Scope(), funnel.Asked.of(funnel.onboarding(app_map) or {}))
    views = np.flatnonzero(reading.log.columns["event"] == EVENT["screen_view"])
    Study(split(reading.log.take(views), 1), app_map)


if __name__ == "__main__":
    warm()
