"""Cells: counts and names, held against a plain count."""

from __future__ import annotations

from itertools import product

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mossy_trail.core.measures.cells import Grid, Words, added, cells, frequencies, picked
from mossy_trail.core.measures.loops import Cycles

MANY = [f"screen {i}" for i in range(300)]
TIMES = st.lists(st.tuples(st.integers(-1, 5), st.integers(0, 7)), max_size=40)
USER = np.array([0, 0, 1, 1, 1, 2, 3, 3], "i4")
"""Of journeys; users 0 and 1 are in one part, the others in the next."""


@given(times=TIMES, lists=st.sampled_from([(["a", "b"], ["x", "y", "z"]), (MANY, MANY)]))
def test_cells_are_counted_once_each_time_journey_and_user(
    times: list[tuple[int, int]], lists: tuple[list[str], list[str]]
) -> None:
    naming = Grid(*lists)
    times.sort(key=lambda pair: pair[1])
    parts = []
    for wanted in ((0, 1), (2, 3)):
        own = np.array([pair for pair in times if USER[pair[1]] in wanted], "i8").reshape(-1, 2)
        parts.append(cells(naming, own[:, 0], own[:, 1]))
    total = added([part.tally(USER) for part in parts])
    real = [(n, j) for n, j in times if n >= 0]
    assert total.number.tolist() == sorted({n for n, _ in real})
    for number, *counts in zip(*(column.tolist() for column in total), strict=True):
        own_journeys = [j for n, j in real if n == number]
        users = {int(USER[j]) for j in own_journeys}
        assert counts == [len(own_journeys), len(set(own_journeys)), len(users)]
        name = naming.name(number)
        behind = [j for part in parts for j in part.of(name).tolist()]
        assert behind == own_journeys
    numbers = np.array([n for n, _ in times], "i8")
    every = frequencies(numbers, naming.size)
    assert dict(zip(every.number.tolist(), every.times.tolist(), strict=True)) == {
        n: sum(m == n for m, _ in real) for n, _ in real
    }


def test_numbers_too_large_for_a_table_are_counted_as_small_ones() -> None:
    """Those of loops run to 2⁶³; some of these fall on one place in a table of hashes."""
    dice = np.random.default_rng(3)
    names = np.unique(np.concatenate([dice.integers(0, 2**62, 50), np.arange(40) << 50]))
    small = dice.integers(-1, len(names), 5000)
    large = np.where(small < 0, -1, names[small])
    journey, user = np.arange(5000) // 7, np.arange(5000, dtype="i4") // 11
    by_table = cells(Grid([str(i) for i in range(len(names))]), small, journey).tally(user)
    by_hash = cells(Cycles(MANY), large, journey).tally(user)
    assert by_hash.number.tolist() == names[by_table.number].tolist()
    for ours, plain in zip(by_hash[1:], by_table[1:], strict=True):
        assert ours.tolist() == plain.tolist()


def test_only_what_a_mask_picks_is_counted() -> None:
    number, journey = np.array([0, 1, 1, 0], "i4"), np.array([0, 0, 1, 2], "i4")
    found = picked(Grid(["a", "b"]), np.array([True, False, True, True]), number, journey)
    assert found.of(("a",)).tolist() == [0, 2]
    assert found.of(("b",)).tolist() == [1]
    assert found.of(("c",)).tolist() == []


@pytest.mark.parametrize(
    ("naming", "names"),
    [
        (Grid("ab", "xyz"), list(product("ab", "xyz"))),
        (Cycles(MANY), [("detour", *MANY[7:12]), ("ping_pong", MANY[0], MANY[299])]),
    ],
)
def test_every_name_has_a_number_and_every_other_none(
    naming: Grid | Cycles, names: list[Words]
) -> None:
    numbers = [naming.number(name) for name in names]
    assert len(set(numbers)) == len(names)
    assert [naming.name(number) for number in numbers] == names
    for wrong in ((), ("a",), ("a", "moon"), ("moon", "x"), (*names[0], "x")):
        assert naming.number(wrong) == -1


def test_a_cycle_has_one_number_wherever_its_name_begins() -> None:
    cycles = Cycles(MANY)
    turned = [("detour", *MANY[7 + k : 12], *MANY[7 : 7 + k]) for k in range(5)]
    assert len({cycles.number(name) for name in turned}) == 1
