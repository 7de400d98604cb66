"""Who rows are of, held against a plain telling of the rule."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from mossy_trail.core.model.log import NONE, merge
from mossy_trail.core.model.people import people
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
