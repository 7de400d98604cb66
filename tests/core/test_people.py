"""Who rows are of, held against a plain telling of the rule."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mossy_trail.core.model.installs import Installs
from mossy_trail.core.model.log import NONE, Codes, Log, merge, split
from mossy_trail.core.model.people import people
from tests.campaign import examples
from tests.core.test_log import Rows, log_of

ROW = st.fixed_dictionaries(
    {
        "user": st.sampled_from(["phone", "tablet", "ann"]),
        "account": st.none() | st.sampled_from(["ann", "bo"]),
        "time": st.integers(0, 9),
    }
)


def told(rows: Rows) -> list[object]:
    """Per row its person, by looking along its install."""
    persons = []
    for i, row in enumerate(rows):
        own = sorted(
            (other["time"], j, other["account"])
            for j, other in enumerate(rows)
            if other["user"] == row["user"] and other["account"] is not None
        )
        before = [account for at, j, account in own if (at, j) <= (row["time"], i)]
        later = [account for at, j, account in own if (at, j) > (row["time"], i)]
        persons.append((before[-1:] or later[:1] or [row["user"]])[0])
    return persons


@given(rows=st.lists(ROW, max_size=12), cut=st.integers(0, 12))
def test_each_row_is_of_the_person_who_was_there(
    rows: Sequence[dict[str, object]], cut: int
) -> None:
    log = people(log_of(rows, "f"))
    persons = [log.text("user", i) for i in range(len(log))]
    assert persons == told(rows)
    again = people(log)
    assert [again.text("user", i) for i in range(len(again))] == persons
    assert (
        sorted(set(persons), key=str) == sorted(again.terms["user"])
        or not rows
        or all(row["account"] is None for row in rows)
    )
    pieces = [log_of(rows[:cut], "f"), log_of(rows[cut:], "f")]
    pieces[1].columns["line"] += cut
    joined = people(merge(pieces[::-1]))
    order = np.argsort(joined.columns["line"], kind="stable")
    assert [joined.text("user", int(i)) for i in order] == persons


def test_a_log_without_accounts_is_left_as_it_is() -> None:
    log = log_of([{"user": "phone", "time": 1}], "f")
    assert people(log) is log
    assert log.columns["account"].tolist() == [NONE]


def persons_of(log: Log) -> list[str | None]:
    return [log.text("user", row) for row in range(len(log))]


@examples(300)
@given(rows=st.lists(ROW, max_size=12), cuts=st.lists(st.integers(0, 12), max_size=3))
def test_who_later_rows_are_of_is_told_without_the_earlier_ones_or_not_at_all(
    rows: Sequence[dict[str, object]], cuts: list[int]
) -> None:
    """Each time more come, all are as if they had been there from the start; those of one are in
    one part, in order."""
    edges = [0, *sorted(min(cut, len(rows)) for cut in cuts), len(rows)]
    pieces = [log_of(rows[a:b], "f") for a, b in pairwise(edges)]
    for piece, begin in zip(pieces, edges, strict=False):
        piece.columns["line"] += begin
    before = people(pieces[0])
    installs, persons = Installs.of(pieces[0]), persons_of(before)
    codes, parts = Codes(before.terms), [part for part in split(before, 5) if len(part)]
    for piece, end in zip(pieces[1:], edges[2:], strict=True):
        arrived = installs.arrived(piece, codes.of["account"])
        if arrived is None:
            assert any(row["account"] for row in rows[:end])
            return
        tail = arrived.under(codes)
        parts = tail.into(parts) if parts else split(tail.log, 5)
        installs.learn(arrived.known)
        assert installs.whole().all() == installs.all()
        persons = [arrived.renamed.get(str(name), name) for name in persons]
        persons += persons_of(arrived.log)
        assert persons == told(rows[:end])
        found = [placed(part, i) for i, part in enumerate(parts)]
        assert dict(enumerate(persons)) == {
            line: person for own in found for _, person, line in own
        }
        assert len({(i, person) for own in found for i, person, _ in own}) == len(set(persons))


def placed(part: Log, number: int) -> list[tuple[int, str | None, int]]:
    """The rows of a part by person and line; they are in order."""
    order = [part.columns[name].tolist() for name in ("user", "time", "line")]
    assert sorted(zip(*order, strict=True)) == list(zip(*order, strict=True))
    return [(number, part.text("user", i), line) for i, line in enumerate(order[2])]


@pytest.mark.parametrize("signed", [True, False])
def test_rows_that_come_in_order_always_tell_who_they_are_of(signed: bool) -> None:
    """Two on one tablet in turn, and one who was nobody until the last row."""
    signs = ["", "ann", "", "bo", "", "ann"] if signed else [""] * 6
    rows = [
        {"user": install, "account": account or None, "time": time}
        for time, account in enumerate(signs)
        for install in ("tablet", "phone")
        if install == "tablet" or time in (0, 5)
    ]
    first = log_of(rows[:2], "f")
    installs, codes, persons = Installs.of(first), Codes(first.terms), persons_of(people(first))
    for row in rows[2:]:
        arrived = installs.arrived(log_of([row], "f"), codes.of["account"])
        assert arrived, row
        arrived.under(codes)
        installs.learn(arrived.known)
        persons = [arrived.renamed.get(str(name), name) for name in persons]
        persons += persons_of(arrived.log)
    assert persons == told(rows)
