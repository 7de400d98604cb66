"""Walks that no sane person would take, over real stacks: the replay follows every step.

The simulated people use the app as it is meant; here any move is made from anywhere it can be.
"""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass, field, replace
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mossy_trail.core.model.app_map import HISTORY
from mossy_trail.core.model.log import split
from mossy_trail.demo.phone import MENU, TABS, Place, Rules, new_phone
from mossy_trail.demo.simulator import Habits
from mossy_trail.engine.study import Study
from mossy_trail.intake.reader import read_files
from tests.campaign import examples
from tests.core.test_replay import HABITS, THE_MAP, differences, steps_of

DETAILS = ("SailingDetail", "PassDetail", "PierDetail", "Settings", "HelpTopic", "NotFound")
SHEETS = ("PaySheet", "TermsSheet", "RateSheet")
LINKS = {
    "SailingDetail": ("sailing", "skerry://sailing/{}"),
    "PassDetail": ("pass", "skerry://pass/{}"),
    "PierDetail": ("pier", "https://skerry.example/pier/{}"),
}


@dataclass
class Walk:
    """A phone whose every change is logged, with or without the views that follow moves."""

    views: bool
    rules: Rules
    habits: Habits = field(default_factory=Habits)
    clock: int = 1_777_888_800_000
    rows: list[dict[str, Any]] = field(default_factory=list)
    truth: list[dict[str, Any]] = field(default_factory=list)
    numbers: int = 0
    gone_back: list[Place] = field(default_factory=list)
    """What lies ahead: places of this stack that were left by going back."""

    def __post_init__(self) -> None:
        self.phone = new_phone(self.rules, Place("Splash"))

    def row(self, event: str, **values: Any) -> None:
        self.clock += 400
        base = {"time": self.clock, "user": "u", "session": "s", "event": event}
        self.rows.append({**base, **{k: v for k, v in values.items() if v is not None}})

    def shown(self, move: str, viewed: bool = True) -> None:
        truth = self.phone.truth()
        if viewed:
            self.row("screen_view", screen=truth["screen"], params=truth["params"])
        place = {"user": "u", "session": "s", "step": len(self.truth) + 1, "move": move}
        self.truth.append({**place, **{k: flat(v) for k, v in truth.items()}})

    def moved(self, move: str, **values: Any) -> None:
        place = self.phone.visible
        self.row(move, screen=place.screen, params=place.params, **values)
        self.shown(move, self.views)

    def new(self, screen: str) -> Place:
        """The screen with params that no other has, so that no two places are alike."""
        self.numbers += 1
        return Place(screen, {"n": str(self.numbers)})

    def start(self) -> None:
        """The app starts, with its last stacks or without, and shows the splash first."""
        kept, self.phone = self.phone, new_phone(self.rules, Place("Splash"))
        self.row("app_start", screen="Splash" if self.habits.named_starts else None)
        self.shown("start", self.views or not self.habits.named_starts)
        if self.rules.restart == "restore" and kept.visible.screen != "Splash":
            self.phone = kept
        else:
            self.phone.replace(Place("SailingsBoard"))
        self.moved("replace")

    def act(self, kind: str, choice: int) -> None:
        phone, inside = self.phone, self.phone.region != "outside"
        gone_back, self.gone_back = self.gone_back, []
        detail = DETAILS[choice % len(DETAILS)]
        if kind == "push" and inside:
            phone.push(self.new(detail))
            self.moved("push")
        elif kind == "pop" and phone.below() is not None:
            if phone.region == "tab" and len(phone.stack) > 1:
                self.gone_back = [*gone_back, phone.visible]
            phone.pop()
            self.moved("pop")
        elif kind == "forward" and gone_back:
            phone.push(gone_back.pop())
            self.gone_back = gone_back
            self.moved("forward")
        elif kind == "pop_to" and len(phone.stack) > 1:
            self.moved("pop_to", count=phone.pop_to_root())
        elif kind == "switch" and inside:
            self._switch(list(TABS)[choice % len(TABS)])
        elif kind == "sheet" and inside and phone.region != "sheet":
            phone.open_modal(Place(SHEETS[choice % len(SHEETS)]))
            self.moved("open_modal")
        elif kind == "menu" and inside and phone.region != "sheet":
            phone.open_modal(Place(MENU))
            self.moved("open_modal")
        elif kind == "close" and phone.region == "sheet":
            phone.close_modal()
            self.moved("close_modal")
        elif kind == "update":
            phone.update(self.new(phone.visible.screen))
            self.moved("update")
        elif kind == "replace" and phone.region == "tab":
            phone.replace(self.new(detail))
            self.moved("replace")
        elif kind == "reset":
            roots = [*TABS.values(), "SignIn"]
            phone.reset(Place(roots[choice % len(roots)]))
            self.moved("reset")
        elif kind == "gate" and phone.region == "tab":
            phone.send_to_gate(Place("SignIn"), "push")
            # From a screen that no move of the walk leads to: it answers none of them.
            self.moved("redirect", **{"from": "BuyPass"})
        elif kind == "enter" and phone.region == "outside":
            phone.replace(Place(list(TABS.values())[choice % len(TABS)]))
            self.moved("replace")
        elif kind == "link" and inside:
            self._link(list(LINKS)[choice % len(LINKS)])
        elif kind == "start":
            self.start()

    def _switch(self, tab: str) -> None:
        if self.phone.switch_tab(tab):
            self.moved("switch_tab", tab=tab)
        else:
            self.row("switch_tab", screen=self.phone.visible.screen, tab=tab)

    def _link(self, screen: str) -> None:
        name, pattern = LINKS[screen]
        self.numbers += 1
        self.row("open_link", uri=pattern.format(self.numbers), source="web")
        place = Place(screen, {name: str(self.numbers)})
        answer = self.phone.land(place, cold=False)
        told = self.habits.answers and answer != "link"
        if told:
            self.row(answer, screen=screen, params=place.params, tab=self.phone.tab)
        self.shown("link", self.views or not told)


def flat(value: Any) -> Any:
    return json.dumps(value) if isinstance(value, dict) else value


KINDS = (
    "push pop pop_to switch sheet menu close update replace reset gate enter link forward start"
).split()
RULES = st.builds(Rules, **{rule: st.sampled_from(words) for rule, words in HISTORY.items()})
ACTS = st.lists(st.tuples(st.sampled_from(KINDS), st.integers(0, 29)), max_size=40)


def replayed(walk: Walk, folder: Path) -> list[dict[str, Any]]:
    path = folder / "walk.jsonl"
    path.write_text("".join(json.dumps(row) + "\n" for row in walk.rows))
    app_map = replace(THE_MAP, history=asdict(walk.rules))
    return steps_of(Study(split(read_files([path]).log, 1), app_map))


@examples(250)
@given(acts=ACTS, views=st.booleans(), rules=RULES, habits=HABITS)
def test_any_moves_from_anywhere_under_any_history_rules(
    tmp_path_factory: pytest.TempPathFactory,
    acts: list[tuple[str, int]],
    views: bool,
    rules: Rules,
    habits: Habits,
) -> None:
    walk = Walk(views, rules, habits)
    walk.start()
    for kind, choice in acts:
        walk.act(kind, choice)
    steps = replayed(walk, tmp_path_factory.mktemp("walk"))
    assert differences(steps, walk.truth) == []
    assert not any("landed_elsewhere" in step["marks"] for step in steps)


def test_every_kind_of_move_is_walked(tmp_path: Path) -> None:
    """The walk above can make them all; else it would prove less than it says."""
    walk = Walk(True, Rules())
    walk.start()
    for kind in (
        *("push", "push", "pop", "forward", "update", "replace"),
        *("sheet", "push", "pop", "close", "pop_to"),
    ):
        walk.act(kind, 1)
    for choice, kind in enumerate(("gate", "pop", "link", "switch", "gate", "enter", "reset")):
        walk.act(kind, choice)
    moves = {step["move"] for step in replayed(walk, tmp_path)}
    assert moves == {
        *("start", "replace", "push", "update", "open_modal", "pop", "close_modal", "pop_to"),
        *("redirect", "link", "switch_tab", "reset", "forward"),
    }
