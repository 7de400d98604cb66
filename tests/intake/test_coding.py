"""Telling the texts of columns apart, held against a plain telling."""

from __future__ import annotations

import json
from typing import Any

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mossy_trail.intake import coding
from mossy_trail.intake.coding import CODED, Coder, distinct_of
from mossy_trail.intake.rows import with_all_fields
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
        codes, texts = distinct_of(pa.table({"it": own}))["it"]
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
