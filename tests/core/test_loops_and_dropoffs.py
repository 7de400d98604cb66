"""Loops held against a plain search; excess and weight against apps whose truth is known."""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mossy_trail.core.measures.cells import Frequencies
from mossy_trail.core.measures.dropoffs import expected, weights
from mossy_trail.core.measures.loops import KINDS, loops, screens_of
from mossy_trail.core.model.app_map import AppMap
from mossy_trail.core.model.log import EVENT, SECOND, split
from mossy_trail.core.model.steps import MOVES, Steps
from mossy_trail.core.replay.replay import replay
from tests.campaign import examples
from tests.core.test_funnel import replayed
from tests.core.test_log import log_of

VIEW = {"user": "u", "session": "s", "event": EVENT["screen_view"], "params": None, "gap": 5}
MAP = AppMap.from_dict(
    {
        "screens": [{"name": name} for name in ("A", "B", "C", "D", "E")]
        + [{"name": "S", "role": "sheet"}, {"name": "G", "role": "sign_in"}],
        "tabs": [{"name": "one", "root": "A"}, {"name": "two", "root": "B"}],
    }
)
ACT = st.one_of(
    st.tuples(st.sampled_from(["push", "push", "replace", "redirect"]), st.sampled_from("ABCDEG")),
    st.tuples(st.sampled_from(["pop", "pop", "pop", "close_modal"]), st.just("")),
    st.tuples(st.just("switch_tab"), st.sampled_from("AB")),
    st.tuples(st.just("open_modal"), st.just("S")),
)
BACK = ("pop", "pop_to", "close_modal")


def walked(sessions: Sequence[Sequence[tuple[str, str]]]) -> Steps:
    """The replay of acts on a stack, each with its row and what it shows."""
    rows: list[dict[str, Any]] = []
    for s, acts in enumerate(sessions):
        stack = ["A"]
        for i, (move, screen) in enumerate([("", "A"), *acts]):
            common = {"user": "u", "session": f"s{s}", "time": (1000 * s + 10 * i) * SECOND}
            if move in BACK and len(stack) < 2:
                continue
            if move in BACK or move == "replace":
                stack.pop()
            stack = [screen] if move == "switch_tab" else [*stack, *screen] if i else stack
            if move:
                rows.append({**common, "event": EVENT[move], "screen": stack[-1]})
            rows.append({**common, "event": EVENT["screen_view"], "screen": stack[-1]})
    return replay(split(log_of(rows, "log"), 1)[0], MAP)


class Found(NamedTuple):
    cycle: tuple[str, ...]
    kind: str
    turns: int
    journey: int
    first: int
    last: int
    took: int
    ended: bool
    beyond: bool


def told(steps: Steps) -> list[Found]:
    """The loops, plainly: every way back to a screen, those of one cycle on end being one loop."""
    names, own = steps.places.names, steps.steps
    screens = [names[s] for s in steps.screen]
    moves = [MOVES[m] for m in own.move]
    runs: list[list[Any]] = []
    for i, screen in enumerate(screens):
        start = int(np.searchsorted(own.journey, own.journey[i]))
        before = [p for p in range(start, i) if screens[p] == screen]
        around = screens[before[-1] : i] if before else []
        if not 2 <= len(around) <= 6 or len(set(around)) < len(around):
            continue
        turned = [around[k:] + around[:k] for k in range(len(around))]
        cycle = tuple(min(turned, key=lambda t: names.index(t[0])))
        if runs and runs[-1][0] == cycle and runs[-1][2] == i - 1:
            runs[-1][2] = i
            runs[-1][3] += 1
        else:
            runs.append([cycle, before[-1], i, 1])
    found = []
    for cycle, first, last, returns in runs:
        turns = 1 + (returns - 1) // len(cycle)
        round_trip = moves[first + 1 : first + 1 + len(cycle)]
        backs, sent = set(BACK) & set(round_trip), round_trip.count("redirect")
        if sent and not backs and 2 * sent >= len(cycle):
            kind = "redirect_loop"
        elif set(round_trip) == {"switch_tab"}:
            kind = "tab_flip"
        elif len(cycle) == 2 and backs:
            kind = "ping_pong"
        else:
            by_return = {"redirect": "sent_again", "switch_tab": "by_tab", "forward": "detour"}
            by_return |= dict.fromkeys(BACK, "detour")
            kind = by_return.get(round_trip[-1], "piled_up")
        ended = last + 1 == len(screens) or own.journey[last + 1] != own.journey[last]
        took = int(own.visible[last if ended else last + 1] - own.visible[first])
        if turns > 1 or kind != "ping_pong":
            journey = int(own.journey[first])
            later = [s for s, j in zip(screens, own.journey, strict=True) if j == journey]
            later = later[last + 1 - int(steps.journeys.first_step[journey]) :]
            beyond = bool(set(later) - set(cycle))
            found.append(Found(cycle, kind, turns, journey, first, last, took, ended, beyond))
    return found


@examples(300)
@given(sessions=st.lists(st.lists(ACT, min_size=1, max_size=40), min_size=1, max_size=3))
def test_loops_of_random_stack_walks_are_those_of_a_plain_search(
    sessions: list[list[tuple[str, str]]],
) -> None:
    steps = walked(sessions)
    own = loops(steps, np.ones(len(steps.journeys.start), bool))
    names = steps.places.names
    cycles = [tuple(names[s] for s in screens_of(int(key), len(names))) for key in own.key]
    kinds = [KINDS[kind] for kind in own.kind]
    columns = (own.turns, own.journey, own.first, own.last, own.took, own.ended, own.beyond)
    assert list(zip(cycles, kinds, *(c.tolist() for c in columns), strict=True)) == told(steps)


def test_every_kind_of_loop_is_known_by_its_moves() -> None:
    def kinds(*acts: tuple[str, str]) -> list[str]:
        steps = walked([acts])
        found = loops(steps, np.ones(len(steps.journeys.start), bool))
        return [KINDS[kind] for kind in found.kind]

    there_and_back = [("push", "C"), ("pop", "")]
    assert kinds(*there_and_back) == [], "a look is no loop"
    assert kinds(*there_and_back * 2) == ["ping_pong"]
    assert kinds(("push", "C"), ("push", "D"), ("pop", ""), ("pop", "")) == []
    assert kinds(("push", "C"), ("push", "D"), ("pop_to", "A")) == ["detour"]
    assert kinds(("push", "C"), ("push", "D"), ("push", "C")) == ["piled_up"]
    assert kinds(("switch_tab", "B"), ("switch_tab", "A")) == ["tab_flip"]
    assert kinds(("redirect", "G"), ("redirect", "A")) == ["redirect_loop"]
    by_tab = [("push", "C"), ("switch_tab", "B"), ("switch_tab", "A")]
    assert kinds(*by_tab) == ["by_tab"]
    again = [("redirect", "G"), ("replace", "C"), ("push", "D"), ("redirect", "G")]
    assert kinds(*again) == ["sent_again"]


@pytest.mark.parametrize("turn", range(3))
def test_a_cycle_is_the_same_wherever_it_is_entered(turn: int) -> None:
    round_trip = "CDECDECDE"[turn : turn + 7]
    steps = replayed([{**VIEW, "screen": screen} for screen in round_trip])
    found = loops(steps, np.ones(1, bool))
    names = steps.places.names
    (key,) = set(found.key.tolist())
    assert sorted(names[s] for s in screens_of(key, len(names))) == ["C", "D", "E"]
    assert screens_of(key, len(names))[0] == min(screens_of(key, len(names)))
    assert found.turns.tolist() == [2]


def test_excess_is_what_a_screen_loses_beyond_its_place() -> None:
    """Leaving is likelier deeper down; one screen loses twice as many as its place would."""
    dice = random.Random(4)
    exits: dict[int, int] = {}
    true = Counter()  # type: ignore[var-annotated]
    for screen in range(12):
        for depth in range(1, 6):
            chance = 1 / (1 + np.exp(3.2 - 0.8 * np.log(depth)))
            own = chance * 2 if screen == 7 else chance
            kind = screen * 7 * 12 * 4 + (depth * 12 + screen % 3) * 4
            exits[kind] = sum(dice.random() < own for _ in range(4000))
            true[screen] += 4000 * chance
    kinds = np.array(sorted(exits))
    lost = np.array([exits[kind] for kind in sorted(exits)])
    every = Frequencies(kinds, np.full(len(kinds), 4000))
    found = expected(every, Frequencies(kinds[lost > 0], lost[lost > 0]), 12)
    lost = np.bincount(kinds // (7 * 12 * 4), lost)
    excess = [lost[s] - found[s] for s in range(12)]
    assert int(np.argmax(excess)) == 7
    assert excess[7] == pytest.approx(true[7], rel=0.35), "its own exits count in the model too"
    assert excess[7] > 2.5 * max(abs(excess[s]) for s in range(12) if s != 7)


def test_weight_is_what_the_goal_gains_when_a_screen_loses_no_one() -> None:
    dice = random.Random(8)
    size, goal = 8, 7
    moves = {(-1, 0): 500, (-1, 1): 300}
    for a in range(size - 1):
        moves |= {(a, b): dice.randint(1, 90) for b in range(size) if b != a}
        moves[a, -2] = dice.randint(1, 120)
    chance, gains = weights(moves, goal, size)
    assert chance == pytest.approx(reaches(moves, goal, size))
    for screen in range(size - 1):
        kept = {pair: n for pair, n in moves.items() if pair != (screen, -2)}
        assert gains[screen] == pytest.approx(reaches(kept, goal, size) - chance)


def reaches(moves: dict[tuple[int, int], int], goal: int, size: int) -> float:
    """The chance to reach the goal, by going round until nothing changes."""
    chance = np.zeros(size)
    chance[goal] = 1
    for _ in range(300):
        for a in range(size):
            total = sum(n for (x, _), n in moves.items() if x == a)
            if a != goal and total:
                onward = sum(n * chance[b] for (x, b), n in moves.items() if x == a and b >= 0)
                chance[a] = onward / total
    starts = {b: n for (a, b), n in moves.items() if a == -1}
    return float(sum(n * chance[b] for b, n in starts.items()) / sum(starts.values()))
