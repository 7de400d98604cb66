"""Telling the texts of columns apart, held against a plain telling."""

from __future__ import annotations

import json
from typing import Any

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mossy_trail.intake import coding, texts
from mossy_trail.intake.coding import CODED, Coder, distinct_of
from mossy_trail.intake.rows import with_all_fields
from mossy_trail.intake.texts import Texts
from tests.campaign import examples

TEXTS = st.lists(st.sampled_from(["a", "b", "", None, "ü"]), min_size=1, max_size=5)
CHUNKS = st.lists(
    st.tuples(TEXTS, st.lists(st.none() | st.integers(0, 99), max_size=15), st.integers(0, 3)),
    max_size=3,
)


def chunk_of(texts: list[Any], places: list[int | None], cut: int) -> pa.DictionaryArray:
    """As files have it: with texts that no row has, one twice or null, and cut out of more rows."""
    own = [None if place is None else place % len(texts) for place in places]
    numbers, known = pa.array(own, pa.int32()), pa.array(texts, pa.string())
    return pa.DictionaryArray.from_arrays(numbers, known)[cut:]


@examples(200)
@given(chunks=CHUNKS)
def test_a_column_tells_its_texts_in_their_order_however_it_is_held(chunks: list[Any]) -> None:
    column = pa.chunked_array([chunk_of(*chunk) for chunk in chunks], CODED)
    rows = column.to_pylist()
    for own in (column, pa.chunked_array([pa.array(rows, pa.string())])):
        codes, told = distinct_of(pa.table({"it": own}))["it"]
        texts = told.to_pylist()
        assert [texts[code] if code >= 0 else None for code in codes] == [it or None for it in rows]
        assert texts == list(dict.fromkeys(filter(None, rows)))


PROPS = st.lists(
    st.fixed_dictionaries({name: st.sampled_from(["", "x", "y"]) for name in ("one", "two", "z")}),
    min_size=1,
    max_size=20,
)


@pytest.mark.parametrize("dense", [1 << 20, 0])
@examples(100)
@given(rows=PROPS)
def test_a_set_of_properties_has_one_code(dense: int, rows: list[dict[str, str]]) -> None:
    """By a table of all pairs that there could be, or only of those that there are."""
    own = {name: [row[name] for row in rows] for name in rows[0]}
    table = with_all_fields(pa.table({"screen": ["S"] * len(rows), **own}))
    coder = Coder()
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(coding, "_DENSE", dense)
        codes = coder.columns(distinct_of(table), list(own))["props"]
    sets = [json.loads(text) for text in coder.terms["props"]]
    told = [sets[code] if code >= 0 else {} for code in codes]
    assert told == [{name: text for name, text in row.items() if text} for row in rows]
    assert len({json.dumps(one) for one in sets}) == len(sets) == len(np.unique(codes[codes >= 0]))


WORDS = st.lists(st.sampled_from(["", None, "a", "aa", "b", "ü", "a\0"]) | st.text(max_size=3))


@pytest.mark.parametrize("base", [texts.BASE, 0], ids=["most have a hash of their own", "few do"])
@examples(100)
@given(begin=WORDS, pieces=st.lists(st.tuples(WORDS, st.integers(0, 2)), max_size=4))
def test_texts_are_numbered_as_they_are_first_met(
    base: int, begin: list[str | None], pieces: list[tuple[list[str | None], int]]
) -> None:
    """Those to begin with keep their places, though one is there twice or empty."""
    known = [text or "" for text in begin]
    expected = {text: known.index(text) for text in known if text}
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(texts, "BASE", base)
        found = Texts(known)
        for piece, cut in pieces:
            own = [text or None for text in piece][cut:]
            numbers = found.numbers(pa.array(piece, pa.string())[cut:])
            for text in filter(None, own):
                if text not in expected:
                    expected[text] = len(known)
                    known.append(text)
            assert numbers.tolist() == [expected[text] if text else -1 for text in own]
    assert found.all() == known
    assert found.since(len(begin)).to_pylist() == known[len(begin) :]
    assert len(found) == len(known)
