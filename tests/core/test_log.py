"""Merging and splitting logs, held against plain sorting."""

from __future__ import annotations

import zlib
from collections.abc import Sequence
from itertools import pairwise

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from mossy_trail.core.model.log import (
    DICTIONARIES,
    DICTIONARY_OF,
    DTYPES,
    NONE,
    Log,
    merge,
    of_users,
    split,
)
from tests.campaign import examples

NAMES = st.sampled_from(["ann", "bo", "cy", "Ann", "", "ß"])
ROW = st.fixed_dictionaries(
    {
        "user": NAMES,
        "time": st.integers(-5, 5),
        "order": st.integers(-1, 2),
        "screen": st.none() | NAMES,
        "origin": st.none() | NAMES,
    }
)
Rows = Sequence[dict[str, object]]


def log_of(rows: Rows, file: str) -> Log:
    terms: dict[str, list[str]] = {name: [] for name in DICTIONARIES}
    columns = {
        name: np.full(len(rows), 0 if name == "event" else NONE, dtype)
        for name, dtype in DTYPES.items()
    }
    for i, row in enumerate([{**row, "file": file, "line": i} for i, row in enumerate(rows)]):
        for name, value in row.items():
            if name in DICTIONARY_OF and value is not None:
                known = terms[DICTIONARY_OF[name]]
                if value not in known:
                    known.append(str(value))
                value = known.index(str(value))
            columns[name][i] = NONE if value is None else value
    return Log(columns, terms)


def rows_of(log: Log) -> list[tuple[object, ...]]:
    def value(name: str, i: int) -> object:
        return log.text(name, i) if name in DICTIONARY_OF else int(log.columns[name][i])

    names = ("user", "time", "order", "file", "line", "screen", "origin")
    return [tuple(value(name, i) for name in names) for i in range(len(log))]


@examples(150)
@given(files=st.lists(st.lists(ROW, max_size=25), max_size=4), parts=st.integers(1, 5))
def test_parts_hold_every_row_once_sorted_and_each_user_in_one(
    files: list[Rows], parts: int
) -> None:
    logs = [log_of(rows, f"file {i}") for i, rows in enumerate(files)]
    whole = merge(logs)
    assert rows_of(whole) == [row for log in logs for row in rows_of(log)]
    for name in DICTIONARIES:
        assert len(set(whole.terms[name])) == len(whole.terms[name])
    made = split(whole, parts)
    assert len(made) == parts
    places = {str(user): n for n, part in enumerate(made) for user, *_ in rows_of(part)}
    for user, n in places.items():
        assert all(user not in {row[0] for row in rows_of(p)} for p in made[:n] + made[n + 1 :])
    for part in made:
        buckets = {zlib.crc32(str(row[0]).encode()) % parts for row in rows_of(part)}
        assert len(buckets) <= 1
        users = [row[0] for row in rows_of(part)]
        changes = [b for a, b in pairwise(users) if a != b]
        assert len(changes) + 1 == max(len(set(users)), 1), "a user's rows lie together"
    every = [row for part in made for row in rows_of(part)]
    assert sorted(every, key=str) == sorted(rows_of(whole), key=str)
    for user in places:
        own = [row for row in every if row[0] == user]
        assert own == sorted(own, key=lambda row: row[1:5])


@examples(60)
@given(times=st.lists(st.integers(0, 10**6), max_size=400))
def test_a_long_user_is_sorted_and_ties_keep_the_files_order(times: list[int]) -> None:
    rows = [{"user": "u", "time": t // 1000, "order": -1} for t in times]
    for part in split(log_of(rows, "f"), 2):
        found = list(zip(part.columns["time"], part.columns["line"], strict=True))
        assert found == sorted(found)


@examples(200)
@given(kept=st.lists(st.lists(st.booleans(), max_size=30), min_size=1, max_size=3))
def test_what_is_left_of_what_is_left_is_as_if_all_had_been_taken_at_once(
    kept: list[list[bool]],
) -> None:
    log = log_of([{"user": f"user {i}", "time": i} for i in range(30)], "f")
    users = np.arange(30)
    for own in kept:
        mask = np.isin(np.arange(30), users[: len(own)][own[: len(users)]])
        users, log = np.flatnonzero(mask), of_users(log, mask)
    assert log.columns["user"].tolist() == log.columns["time"].tolist() == users.tolist()
    assert list(log.columns) == list(DTYPES)
