"""Every kernel at work once, so that no first import or question has to wait for it."""

from __future__ import annotations

import json
import tempfile
from pathlib import Path

import numpy as np

from mossy_trail.core.model.log import EVENT, split
from mossy_trail.core.model.scope import Scope
from mossy_trail.demo.load import MAP
from mossy_trail.demo.simulator import simulate, write
from mossy_trail.engine import funnel, health
from mossy_trail.engine.compare import Sides, compare
from mossy_trail.engine.findings import findings
from mossy_trail.engine.measures import measured
from mossy_trail.engine.registry import MEASURES
from mossy_trail.engine.study import Study
from mossy_trail.intake.app_map_file import map_of, parse_map
from mossy_trail.intake.reader import read_files

_LIMITED = "(SignIn .. PassWallet) within 9min"


def warm() -> None:
    """Run every kernel once on little: compiles those that are not yet, and loads them all."""
    with tempfile.TemporaryDirectory() as folder:
        csv, json_lines, *_ = write(simulate(500, 1), Path(folder))
        array = Path(folder) / "array.json"
        array.write_text(f"[{','.join(json_lines.read_text().splitlines())}]")
        reading = read_files([csv, json_lines, array])
    app_map = map_of(parse_map(MAP.read_text()))
    study = Study(split(reading.log, 1), app_map)
    known = {"spec": json.dumps(funnel.onboarding(app_map)), "pattern": "SignIn[stack=MeHome]"}
    for measure in MEASURES.values():
        given = {
            name: value for name, value in known.items() if name in measure.params.model_fields
        }
        measured(study, Scope(), measure.name, measure.params(**given))
    for name, more in (("paths", {"reading": "kept"}), ("patterns", {"pattern": _LIMITED})):
        measured(study, Scope(), name, MEASURES[name].params(**more))
    compare(study, Scope(), Sides("3.2", "3.1", "version"))
    findings(study, Scope())
    health.measure(study)
    views = np.flatnonzero(reading.log.columns["event"] == EVENT["screen_view"])
    Study(split(reading.log.take(views), 1), app_map)


if __name__ == "__main__":
    warm()
