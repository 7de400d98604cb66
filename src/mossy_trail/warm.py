"""Every kernel at work once, so that no first import or question has to wait for it.

Compiling takes minutes: at set-up two processes share it. What one has compiled lies on disk, and
the other takes it from there; each begins where the other comes last. The longest of it, the
replay, has been compiled before (see `core.replay.compiling`).
"""

from __future__ import annotations

import json
import os
import pickle
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path
from threading import Thread

import numpy as np
import polars as pl

from mossy_trail.core.model.app_map import AppMap
from mossy_trail.core.model.installs import Installs
from mossy_trail.core.model.log import EVENT, Log, split
from mossy_trail.core.model.people import people
from mossy_trail.core.model.scope import Scope
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
from mossy_trail.store import wire
from mossy_trail.store.folder import Folder, LogParts, write_parts

_STUDY = "study.pickle"
_LIMITED = "(SignIn .. PassWallet) within 9min"


def warm() -> None:
    """Run every kernel once on little: compiles those that are not yet, and loads them all."""
    with tempfile.TemporaryDirectory() as folder:
        log = _log(Path(folder))
        questions = _questions(Study(split(log, 1), _map()))
        _read_other_forms(Path(folder))
        for ask in questions.values():
            ask()
        _weigh(log)
        _grow(log)


def compile_files() -> None:
    """What reads files, which may be done beside compiling the replay."""
    with tempfile.TemporaryDirectory() as folder:
        read_files([_written(Path(folder))])
        _read_other_forms(Path(folder))


def compile_first() -> None:
    """What is needed to bring a log in."""
    with tempfile.TemporaryDirectory() as folder:
        Study(split(_log(Path(folder)), 1), _map())
    _stamp("first")


def compile_all() -> None:
    """Compile by two processes, and tell of each piece of work that is done."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        helper = subprocess.Popen([sys.executable, "-m", "mossy_trail.warm", name])
        try:
            study = _handed_over(folder, _log(folder))
            _tell("replay")
            _share(folder, _questions(study))
            if helper.wait():
                print(
                    f"The helper ended with {helper.returncode}; going on alone.", file=sys.stderr
                )
                warm()
        finally:
            helper.kill()
    _stamp("first")
    _stamp("whole")


def help_with(folder: Path) -> None:
    """What the other process does."""
    own = folder / "helper"
    csv = _written(own)
    _read_other_forms(own)
    _tell("files")
    log = read_files([csv]).log
    _weigh(log)
    _tell("weighing")
    _grow(log)
    _tell("live rows")
    questions = _questions(_taken_over(folder))
    _share(folder, dict(reversed(questions.items())))


PIECES = len(MEASURES) + 9
"""Of work that is told of: the measures, and what else `_questions`, `compile_all` and `help_with`
name."""


def _stamp(done: str) -> None:
    (Path(os.environ["NUMBA_CACHE_DIR"]) / done).touch()


def _tell(done: str) -> None:
    print(done, flush=True)


class Preparing:
    """Compiles what is not yet, and loads all, while the server is there already."""

    def __init__(self) -> None:
        self._done, self._of = 0, 0
        self._compiling: subprocess.Popen[bytes] | None = None
        self._thread = Thread(target=self._prepare, name="preparing", daemon=True)

    def start(self) -> None:
        self._of = 0 if self._compiled else PIECES
        self._thread.start()

    def stop(self) -> None:
        """Leave no process behind."""
        if self._compiling and self._compiling.poll() is None:
            os.killpg(self._compiling.pid, signal.SIGTERM)

    @property
    def says(self) -> str:
        """How far it is, while nothing can be asked."""
        if not self._of:
            return ""
        return f"The tool is being made ready, once: {self._done} of {self._of} parts are."

    @property
    def _compiled(self) -> bool:
        kernels = os.environ.get("NUMBA_CACHE_DIR")
        return not kernels or (Path(kernels) / "whole").exists()

    def _prepare(self) -> None:
        if not self._compiled:
            asked = [sys.executable, "-m", "mossy_trail.warm"]
            # Both of its processes are of one group, to be stopped together.
            self._compiling = subprocess.Popen(
                asked, stdout=subprocess.PIPE, start_new_session=True
            )
            for done, _ in enumerate(self._compiling.stdout or (), 1):
                self._done = done
            self._compiling.wait()
        self._of = 0
        warm()


def _share(folder: Path, questions: dict[str, Callable[[], object]]) -> None:
    """Ask those that the other process has not begun with."""
    for name, ask in questions.items():
        try:
            (folder / f"{name}.begun").touch(exist_ok=False)
        except FileExistsError:
            continue
        ask()
        _tell(name)


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
            raise SystemExit("The one who was to hand over a log is gone.")
        time.sleep(0.05)
    study: Study = pickle.loads(Folder(folder).read(_STUDY))
    return study


def _map() -> AppMap:
    return map_of(parse_map(MAP.read_text()))


def _log(folder: Path) -> Log:
    log = read_files([_written(folder)]).log
    Installs.of(log)
    for _ in wire.written(log.columns, 0):
        pass
    return log


def _written(folder: Path) -> Path:
    csv, *_ = write(simulate(500, 1), folder)
    return csv


def _read_other_forms(folder: Path) -> None:
    json_lines, array = folder / "skerry.jsonl", folder / "array.json"
    array.write_text(f"[{','.join(json_lines.read_text().splitlines())}]")
    columnar = folder / "skerry.parquet"
    pl.read_csv(folder / "skerry.csv", infer_schema=False).write_parquet(columnar)
    over_two_lines = folder / "quoted.csv"
    over_two_lines.write_text('time,user,screen\n1777888800,ann,"Har\nbour"\n')
    read_files([json_lines, array, columnar, over_two_lines])


def _weigh(log: Log) -> None:
    """Replay views alone."""
    views = np.flatnonzero(log.columns["event"] == EVENT["screen_view"])
    Study(split(log.take(views), 1), _map())


def _grow(log: Log) -> None:
    """Put live rows of one user beside what was replayed, and then of another."""
    study = Study(split(people(log), 1), _map(), installs=Installs.of(log))
    for row in (0, len(log) - 1):
        study = study.grown(log.take(np.array([row])), study.read_at, str(row)) or study


def _questions(study: Study) -> dict[str, Callable[[], object]]:
    """Whatever can be asked; last what asks for all the others."""

    def ask(name: str, more: dict[str, str]) -> object:
        spec = json.dumps(funnel.onboarding(study.app_map))
        known = {"spec": spec, "pattern": "SignIn[stack=MeHome]", **more}
        return measured(study, Scope(), name, MEASURES[name].params_of(known))

    return {
        **{name: partial(ask, name, {}) for name in MEASURES},
        "kept paths": partial(ask, "paths", {"reading": "kept"}),
        "limits": partial(ask, "patterns", {"pattern": _LIMITED}),
        "health": partial(health.measure, study),
        "compare": partial(compare, study, Scope(), Sides("3.2", "3.1", "version")),
        "findings": partial(findings, study, Scope()),
    }


if __name__ == "__main__":
    asked = {"files": compile_files, "first": compile_first}
    if not sys.argv[1:]:
        compile_all()
    elif sys.argv[1] in asked:
        asked[sys.argv[1]]()
    else:
        help_with(Path(sys.argv[1]))
