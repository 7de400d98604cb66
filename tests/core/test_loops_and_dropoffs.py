"""Loops held against a plain search; excess and weight against apps whose truth is known."""

from __future__ import annotations

import random
from collections import Counter
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mossy_trail.core.log import EVENT
from mossy_trail.core.measures.dropoffs import expected, weights
from mossy_trail.core.measures.loops import KINDS, loops, screens_of
from tests.core.test_funnel import replayed

VIEW = {"user": "u", "session": "s", "event": EVENT["screen_view"], "params": None, "gap": 5}


def cycles(screens: list[str]) -> list[tuple[frozenset[str], int, int]]:
    """Each return through others that are all different: its screens, its begin, and its end."""
    found = []
    for i, screen in enumerate(screens):
        earlier = [p for p in range(i) if screens[p] == screen]
        if earlier and 2 <= i - earlier[-1] <= 6:
            round_trip = screens[earlier[-1] : i]
            if len(set(round_trip)) == len(round_trip):
                found.append((frozenset(round_trip), earlier[-1], i))
    return found


@given(walk=st.lists(st.sampled_from("ABCDE"), min_size=1, max_size=30))
def test_loops_are_the_cycles_that_were_walked(walk: list[str]) -> None:
    walked = [s for i, s in enumerate(walk) if i == 0 or s != walk[i - 1]]
    steps = replayed([{**VIEW, "screen": screen} for screen in walked])
    assert [steps.places.names[s] for s in steps.screen] == walked
    found = loops(steps, np.ones(1, bool))
    names = steps.places.names
    true = cycles(walked)
    told: set[frozenset[str]] = set()
    for key, kind, first, last in zip(found.key, found.kind, found.first, found.last, strict=True):
        screens = [names[s] for s in screens_of(int(key), len(names))]
        assert (frozenset(screens), last) in {(c, end) for c, _, end in true}
        assert any((c, begin) == (frozenset(screens), first) for c, begin, _ in true)
        assert names.index(screens[0]) == min(map(names.index, screens)), "the canonical turn"
        told.add(frozenset(screens))
        assert KINDS[kind] in KINDS
    single = {c for c, _, _ in true if len(c) > 2}
    assert single <= told | {c for c, _, _ in true if len(c) == 2}


def test_turns_are_counted_and_a_look_is_no_loop() -> None:
    def of(walk: str) -> list[tuple[str, int]]:
        steps = replayed([{**VIEW, "screen": screen} for screen in walk])
        found = loops(steps, np.ones(1, bool))
        return [(KINDS[k], int(t)) for k, t in zip(found.kind, found.turns, strict=True)]

    assert of("ABA") == []
    assert of("ABABA") == [("ping_pong", 2)]
    assert of("ABABABA") == [("ping_pong", 3)]
    assert [turns for _, turns in of("XABCABCAB")] == [2]


def test_excess_is_what_a_screen_loses_beyond_its_place() -> None:
    """Leaving is likelier deeper down; one screen loses twice as many as its place would."""
    dice, groups = random.Random(4), Counter()  # type: ignore[var-annotated]
    exits: Counter[Any] = Counter()
    true = Counter()  # type: ignore[var-annotated]
    for screen in range(12):
        for depth in range(1, 6):
            chance = 1 / (1 + np.exp(3.2 - 0.8 * np.log(depth)))
            own = chance * 2 if screen == 7 else chance
            kind = (depth * 12 + screen % 3) * 4
            groups[screen, kind] = 4000
            exits[screen, kind] = sum(dice.random() < own for _ in range(4000))
            true[screen] += 4000 * chance
    both = {key: (n, exits[key]) for key, n in groups.items()}
    found = expected(both, 12)
    lost = Counter()  # type: ignore[var-annotated]
    for (screen, _), n in exits.items():
        lost[screen] += n
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
