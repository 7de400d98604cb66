"""Paths against plain walks over lists: as walked, and as kept on the phones' own stacks."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from mossy_trail.core.measures import paths as core
from mossy_trail.core.measures.paths import Asked, alike, paths, spelled, windows
from mossy_trail.core.model.log import split
from mossy_trail.demo.phone import TAB_OF, Rules
from mossy_trail.demo.simulator import Demo as Simulated
from mossy_trail.demo.simulator import simulate, write_json_lines
from mossy_trail.engine.study import Study
from mossy_trail.intake.reader import read_files
from tests.core.test_replay import THE_MAP
from tests.core.test_views import SETTINGS

Step = dict[str, Any]
BACK = ("pop", "pop_to", "close_modal")


class PlainStacks:
    """The stacks of one journey as lists of places, each with the steps that showed it."""

    def __init__(self, rules: Rules, steps: Sequence[Step]) -> None:
        self.rules, self.steps = rules, steps
        self.stacks: dict[Any, list[list[int]]] = {}
        self.undone: set[int] = set()
        self.before: tuple[Any, int] | None = None

    def key(self, step: Step) -> Any:
        if step["region"] == "sheet":
            return "sheet"
        return "one" if self.rules.tabs == "shared" else (step["region"], step["tab"])

    def take(self, i: int, step: Step) -> None:
        key, depth = self.key(step), int(step["depth"])
        own = self.stacks.setdefault(key, [])
        if step["move"] in BACK:
            old, old_depth = self.before or (key, depth)
            if (old, old_depth) != (key, depth):
                self.undone.add(i - 1)
            if old != key and (old == "sheet" or (old != "one" and old[0] == "outside")):
                self._undo(self.stacks.pop(old, []))
            if old in (key, "sheet"):
                self._undo(own[depth:])
        elif self.before == (key, depth) and step["move"] in ("replace", "update", "redirect"):
            pass  # it took the place of what was visible
        elif step["move"] == "reset" or self._lands_afresh(step, i):
            self.stacks[key] = own = []
        elif step["move"] == "link" and len(own) >= depth and own[depth - 1]:
            there = self.steps[own[depth - 1][-1]]
            if (there["screen"], there["params"]) != (step["screen"], step["params"]):
                del own[depth - 1 :]
        elif step["move"] in ("push", "open_modal", "forward", "redirect", "replace", "link"):
            del own[depth - 1 :]
        del own[depth:]
        own += [[] for _ in range(depth - len(own))]
        own[-1].append(i)
        if key != "sheet":
            self.stacks.pop("sheet", None)
        self.before = (key, depth)

    def _lands_afresh(self, step: Step, i: int) -> bool:
        cold = self.steps[i - 1]["screen"] == "Splash"
        rule = self.rules.link_cold if cold else self.rules.link_warm
        return step["move"] == "link" and step["screen"] in TAB_OF and rule != "over"

    def _undo(self, places: list[list[int]]) -> None:
        self.undone.update(i for place in places for i in place)

    def kept(self) -> list[str]:
        steps = self.steps
        place_of: dict[int, Any] = {}
        for i, step in enumerate(steps):
            self.take(i, step)
            place_of[i] = self.stacks[self.key(step)][-1]
        found: list[int] = []
        for i, step in enumerate(steps):
            returned = found and step["move"] in BACK and place_of[found[-1]] is place_of[i]
            if i not in self.undone and not returned:
                found.append(i)
        return [steps[i]["screen"] for i in found]


def simulated(rules: Rules, rows: int, seed: int, folder: Path) -> tuple[Simulated, Study]:
    found = simulate(rows, seed, rules)
    log = folder / "log.jsonl"
    write_json_lines(found.rows, log)
    app_map = replace(THE_MAP, history=asdict(rules))
    return found, Study(split(read_files([log]).log, 2), app_map)


def all_paths(study: Study, asked: Asked) -> dict[str, list[str]]:
    """The whole path of each journey, by its session."""
    found = {}
    for steps in study.parts:
        own = paths(steps, asked, np.ones(len(steps.journeys.start), bool))
        names = core.node_names(steps, asked.nodes)
        for i, journey in enumerate(own.journey.tolist()):
            key = steps.log.terms["session"][steps.journeys.session[journey]]
            [nodes] = spelled(own, asked, np.array([i]))
            found[key] = [names[code] for code in nodes]
    return found


@pytest.mark.parametrize(("rule", "setting"), [("tabs", "keep"), *SETTINGS])
def test_what_is_kept_is_what_a_plain_walk_of_the_stacks_keeps(
    rule: str, setting: str, tmp_path: Path
) -> None:
    rules = replace(Rules(), **{rule: setting})
    demo, study = simulated(rules, 12_000, 31, tmp_path)
    found = all_paths(study, Asked(reading="kept", repeats=True, whole=True))
    assert len(found) == len(demo.visits)
    for visit in demo.visits:
        assert found[visit.session] == PlainStacks(rules, visit.truth).kept()


def plain_window(steps: Sequence[Step], asked: Asked) -> tuple[str, ...] | None:
    """The nodes from where a path begins, outward, by searching the journey's steps."""
    if asked.nodes == "tab":
        named = [step["tab"] or step["region"] for step in steps]
    else:
        named = [step["screen"] for step in steps]
    begins = [i for i, step in enumerate(steps) if asked.what in (step["screen"], "")]
    if asked.at == "exit":
        begins = [i for i in begins if i == len(steps) - 1]
    if not begins:
        return None
    nodes: list[tuple[str, int]] = []
    for i, node in enumerate(named):
        if asked.repeats or not nodes or nodes[-1][0] != node:
            nodes.append((node, i))
    last = begins[-1] if asked.at == "exit" else begins[0]
    at = max(k for k, (_, first) in enumerate(nodes) if first <= last)
    way = nodes[at:] if asked.forward else nodes[at::-1]
    return tuple(node for node, _ in way[: asked.deep + 1])


@pytest.mark.parametrize("repeats", [False, True])
@pytest.mark.parametrize(
    "asked",
    [
        Asked(deep=4),
        Asked("screen", "SailingDetail", deep=3),
        Asked("screen", "HarbourMap", forward=False, deep=6),
        Asked("exit", forward=False, deep=2, nodes="tab"),
        Asked("screen", "PassWallet", nodes="tab", forward=False),
    ],
    ids=str,
)
def test_paths_as_walked_are_what_a_plain_count_finds(
    asked: Asked, repeats: bool, tmp_path: Path
) -> None:
    asked = replace(asked, repeats=repeats)
    demo, study = simulated(Rules(), 12_000, 32, tmp_path)
    plain = Counter(plain_window(visit.truth, asked) for visit in demo.visits)
    del plain[None]
    found: Counter[tuple[str, ...]] = Counter()
    for steps in study.parts:
        own = paths(steps, asked, np.ones(len(steps.journeys.start), bool))
        names = core.node_names(steps, asked.nodes)
        rows = windows(own, asked, np.zeros(len(own.begin), bool), len(names)).nodes.T.tolist()
        shown = [tuple(names[c] for c in row if 0 <= c < len(names)) for row in rows]
        found.update(shown)
        groups = alike(own, asked, asked.deep)
        spelt = [nodes.tolist() for nodes in spelled(own, asked, groups.one, asked.deep)]
        ways = {
            tuple(names[c] for c in n): size for n, size in zip(spelt, groups.sizes, strict=True)
        }
        assert len(ways) == len(groups.sizes)
        assert ways == Counter(way if asked.forward else way[::-1] for way in shown)
    assert found == plain
    assert sum(found.values()) > 50
