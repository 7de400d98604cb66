"""Every kernel at work once, so that no first import or question has to wait for it.

Compiling takes minutes: at set-up two processes share it. What one has compiled lies on disk, and
the other takes it from there; each begins where the other comes last.
"""

from __future__ import annotations

import json
import os
import pickle
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

import numpy as np

from mossy_trail.core.model.app_map import AppMap
from mossy_trail.core.model.log import EVENT, Log, split
from mossy_trail.core.model.scope import Scope
from mossy_trail.core.replay.replay import run_of_no_rows
from mossy_trail.core.replay.walk import compile_branches, compile_trunk
from mossy_trail.demo.load import MAP
from mossy_trail.demo.simulator import simulate, write
from mossy_trail.engine import funnel, health
from mossy_trail.engine.compare import Sides, compare
from mossy_trail.engine.findings import findings
from mossy_trail.engine.measures import measured
from mossy_trail.engine.registry import MEASURES
from mossy_trail.engine.shelf import Shelf
from mossy_trail.engine.study import Study
from mossy_trail.engine.workers import threads
from mossy_trail.intake.app_map_file import map_of, parse_map
from mossy_trail.intake.reader import read_files
from mossy_trail.store.folder import Folder, LogParts, write_parts

_STUDY = "study.pickle"
_LIMITED = "(SignIn .. PassWallet) within 9min"


def warm() -> None:
    """Run every kernel once on little: compiles those that are not yet, and loads them all."""
    with tempfile.TemporaryDirectory() as folder:
        log = _log(Path(folder))
        questions = _questions(Study(split(log, 1), _map()))
        _read_json(Path(folder))
        for ask in questions.values():
            ask()
        _weigh(log)


def compile_all() -> None:
    """The same by two processes."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        helper = subprocess.Popen([sys.executable, "-m", "mossy_trail.warm", name])
        try:
            log = _log(folder)
            compile_branches(run_of_no_rows(_map()))
            study = _handed_over(folder, log)
            _share(folder, _questions(study))
            if helper.wait():
                raise SystemExit(1)
        finally:
            helper.kill()


def help_with(folder: Path) -> None:
    """What the other process does."""
    own = folder / "helper"
    compile_trunk(run_of_no_rows(_map()))
    log = _log(own)
    _read_json(own)
    _weigh(log)
    questions = _questions(_taken_over(folder))
    _share(folder, dict(reversed(questions.items())))


def _share(folder: Path, questions: dict[str, Callable[[], object]]) -> None:
    """Ask those that the other process has not begun with."""
    for name, ask in questions.items():
        try:
            (folder / f"{name}.begun").touch(exist_ok=False)
        except FileExistsError:
            continue
        ask()


def _handed_over(folder: Path, log: Log) -> Study:
    """The study of a log, which the other process waits for."""
    write_parts(Folder(folder / "log"), split(log, 1), log.terms)
    shelf = Shelf(Folder(folder / "replay"), threads)
    study = Study(LogParts(Folder(folder / "log")), _map(), shelf=shelf)
    Folder(folder).write(_STUDY, pickle.dumps(study))
    return study


def _taken_over(folder: Path) -> Study:
    parent = os.getppid()
    while not (folder / _STUDY).exists():
        if os.getppid() != parent:
            raise SystemExit(1)
        time.sleep(0.05)
    study: Study = pickle.loads(Folder(folder).read(_STUDY))
    return study


def _map() -> AppMap:
    return map_of(parse_map(MAP.read_text()))


def _log(folder: Path) -> Log:
    csv, *_ = write(simulate(500, 1), folder)
    return read_files([csv]).log


def _read_json(folder: Path) -> None:
    json_lines, array = folder / "skerry.jsonl", folder / "array.json"
    array.write_text(f"[{','.join(json_lines.read_text().splitlines())}]")
    read_files([json_lines, array])


def _weigh(log: Log) -> None:
    """Replay views alone."""
    views = np.flatnonzero(log.columns["event"] == EVENT["screen_view"])
    Study(split(log.take(views), 1), _map())


def _questions(study: Study) -> dict[str, Callable[[], object]]:
    """Whatever can be asked; last what asks for all the others."""

    def ask(name: str, more: dict[str, str]) -> object:
        spec = json.dumps(funnel.onboarding(study.app_map))
        known = {"spec": spec, "pattern": "SignIn[stack=MeHome]", **more}
        params = MEASURES[name].params
        given = {key: value for key, value in known.items() if key in params.model_fields}
        return measured(study, Scope(), name, params(**given))

    return {
        **{name: partial(ask, name, {}) for name in MEASURES},
        "kept paths": partial(ask, "paths", {"reading": "kept"}),
        "limits": partial(ask, "patterns", {"pattern": _LIMITED}),
        "health": partial(health.measure, study),
        "compare": partial(compare, study, Scope(), Sides("3.2", "3.1", "version")),
        "findings": partial(findings, study, Scope()),
    }


if __name__ == "__main__":
    help_with(Path(sys.argv[1])) if len(sys.argv) > 1 else compile_all()
