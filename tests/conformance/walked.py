"""Apps on real navigation libraries, walked: what they log in each dialect, and what is true."""

from __future__ import annotations

import json
import os
import random
import subprocess
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any

from mossy_trail.core.model.app_map import AppMap
from mossy_trail.core.model.log import Log, split
from mossy_trail.engine.study import Study
from mossy_trail.intake.app_map_file import map_of
from mossy_trail.intake.reader import read_files
from tests.core.test_replay import same, steps_of

HERE = Path(__file__).parent
PHONES = ("plain", "drawer", "ordered", "restored", "afresh", "here")
BROWSER = "browser"
FIELDS = ("screen", "params", "move", "tab", "region", "depth", "below", "below_params")
SEED, STEPS = 8, 1200
Row = dict[str, Any]


def walk_all(folder: Path, seed: int = SEED, steps: int = STEPS) -> dict[str, Walked]:
    """Walk every app, in two processes."""
    command = ["node", str(HERE / "generate.mjs"), str(folder), str(seed), str(steps)]
    environment = {**os.environ, "NODE_ENV": "production"}
    walks = [
        subprocess.Popen([*command, *apps], env=environment)
        for apps in (PHONES[:3], (*PHONES[3:], BROWSER))
    ]
    assert [walk.wait() for walk in walks] == [0, 0]
    return {app: Walked(folder / app) for app in (*PHONES, BROWSER)}


@dataclass(frozen=True)
class Verdict:
    """A step as it truly was, and as it was read; without either where there is no such step."""

    true: Row | None
    read: Row | None

    @property
    def wrong(self) -> list[str]:
        if self.true is None or self.read is None:
            return ["step"]
        return [n for n in FIELDS if same(self.read[n]) != same(_flat(self.true[n]))]


def _flat(value: Any) -> Any:
    return json.dumps(value) if isinstance(value, dict) else value


@dataclass(frozen=True)
class Walked:
    folder: Path

    @cached_property
    def app_map(self) -> AppMap:
        return map_of(self.document)

    @cached_property
    def document(self) -> Row:
        found: Row = json.loads((self.folder / "map.json").read_text())
        return found

    @cached_property
    def truth(self) -> list[Row]:
        return _lines(self.folder / "truth.jsonl")

    def rows(self, dialect: str) -> list[Row]:
        return _lines(self.folder / f"{dialect}.jsonl")

    def log(self, dialect: str) -> list[Log]:
        return split(read_files([self.folder / f"{dialect}.jsonl"]).log, 2)

    def verdicts(self, dialect: str) -> list[Verdict]:
        return self._judged(self.folder / f"{dialect}.jsonl", self.rows(dialect))

    def _judged(self, path: Path, rows: Sequence[Row]) -> list[Verdict]:
        """Each true step beside the one that was read of its rows, and those that are too many."""
        left = {true["of"]: true for true in self.truth}
        verdicts = []
        for step in steps_of(Study(split(read_files([path]).log, 2), self.app_map)):
            told = [rows[place["line"] - 1].get("of") for place in step["rows"]]
            of = next((one for one in reversed(told) if one in left), None)
            verdicts.append(Verdict(left.pop(of, None) if of else None, step))
        return verdicts + [Verdict(true, None) for true in left.values()]

    def roughened(self, dialect: str, seed: int) -> list[Verdict]:
        """The same log with rows doubled, lost, and swapped; of steps that lost none of theirs."""
        dice, rows, lost = random.Random(seed), [], set()
        for row in self.rows(dialect):
            if dice.random() < 0.005:
                lost.add(row.get("of"))
            else:
                rows += [row, row] if dice.random() < 0.01 else [row]
        for i in range(len(rows) - 1):
            if rows[i]["user"] == rows[i + 1]["user"] and dice.random() < 0.005:
                early, late = rows[i]["time"], rows[i + 1]["time"]
                rows[i], rows[i + 1] = {**rows[i], "time": late}, {**rows[i + 1], "time": early}
        path = self.folder / f"{dialect}-noisy.jsonl"
        path.write_text("".join(json.dumps(row) + "\n" for row in rows))
        judged = self._judged(path, rows)
        return [one for one in judged if one.true is None or one.true["of"] not in lost]


def _lines(path: Path) -> list[Row]:
    return [json.loads(line) for line in path.read_text().splitlines()]


def share_right(verdicts: Sequence[Verdict]) -> float:
    return sum(not one.wrong for one in verdicts) / len(verdicts)
