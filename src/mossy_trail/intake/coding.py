"""Codes for the strings of a log: given out block by block, the same in all of them."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping, Sequence
from types import MappingProxyType
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from mossy_trail.core.ahead import two_at_once
from mossy_trail.core.kernel import inner_kernel, kernel, read_only
from mossy_trail.core.model.log import DICTIONARIES, EVENT, NONE, OUTCOME, VIAS, Column, recode
from mossy_trail.intake.texts import Codes, Texts

_CODED = {
    "user": "user",
    "account": "account",
    "session": "session",
    "screen": "screen",
    "origin": "screen",
    "tab": "word",
    "uri": "uri",
    "source": "word",
    "params": "params",
}
_FIELD_OF = {"origin": "from"}
_FAR = 2**31 - 1

Distinct = tuple[Codes, pa.Array]
"""Per row its place among the different texts of a column, −1 where it has none; and these."""
_CUSTOM = EVENT["custom"]


class Coder:
    """Turns columns of text into codes. A string has one code, by its first appearance.

    `terms` are strings that have codes already: per dictionary, in the order of these.
    """

    def __init__(self, terms: Mapping[str, Sequence[str]] = MappingProxyType({})) -> None:
        self._texts = {name: Texts(terms.get(name, ())) for name in DICTIONARIES}
        self._params, self._params_codes = Texts(), np.empty(0, "int32")

    @property
    def terms(self) -> dict[str, list[str]]:
        """Per dictionary the strings so far, in the order of their codes."""
        return {name: texts.all() for name, texts in self._texts.items()}

    @property
    def sizes(self) -> dict[str, int]:
        """How many each dictionary has."""
        return {name: len(texts) for name, texts in self._texts.items()}

    def terms_since(self, sizes: Mapping[str, int]) -> Iterator[tuple[str, int, str]]:
        """Dictionary, code and string of those that have come since it had so many."""
        for name, texts in self._texts.items():
            added = texts.since(sizes[name]).to_pylist()
            yield from ((name, code, text) for code, text in enumerate(added, sizes[name]))

    def columns(
        self, distinct: Mapping[str, Distinct], properties: Sequence[str]
    ) -> dict[str, Column]:
        """The coded columns of rows with all fields; the rest are `properties`."""
        built = {
            name: self._coded(dictionary, distinct[_FIELD_OF.get(name, name)])
            for name, dictionary in _CODED.items()
        }
        codes, words = distinct["event"]
        events = [EVENT.get(word, _CUSTOM) for word in words.to_pylist()]
        event = recode(codes, np.array(events, "int32"))
        own = pc.if_else(pa.array([event == _CUSTOM for event in events], pa.bool_()), words, None)
        built["word"] = recode(codes, self._codes("word", own))
        built["event"] = np.where(codes == NONE, EVENT["screen_view"], event)
        built["order"] = _numbers(distinct["order"], _whole, "int64")
        built["count"] = _numbers(distinct["count"], lambda text: min(_whole(text), _FAR), "int32")
        built["outcome"] = _numbers(distinct["outcome"], lambda w: OUTCOME.get(w, NONE), "int8")
        built["via"] = _numbers(
            distinct["via"], lambda word: VIAS.index(word) if word in VIAS else NONE, "int8"
        )
        given = [(name, *distinct[name]) for name in sorted(properties)]
        built["props"] = self._properties(len(codes), given)
        return built

    def _coded(self, dictionary: str, distinct: Distinct) -> Column:
        codes, texts = distinct
        own = self._codes_of_params if dictionary == "params" else self._codes
        return recode(codes, own(dictionary, texts))

    def _codes(self, dictionary: str, texts: pa.Array) -> Codes:
        # PostgreSQL has no such character in text
        if pc.any(pc.match_substring(texts, "\0")).as_py():
            texts = pc.replace_substring(texts, "\0", "\N{SYMBOL FOR NULL}")
        return self._texts[dictionary].numbers(texts)

    def _codes_of_params(self, dictionary: str, texts: pa.Array) -> Codes:
        """By what they say, which is told once of each text."""
        known = len(self._params)
        numbers = self._params.numbers(texts)
        fresh = [_canonical(text) for text in self._params.since(known).to_pylist()]
        codes = self._codes(dictionary, pa.array(fresh, pa.string()))
        self._params_codes = np.append(self._params_codes, codes)
        return recode(numbers, self._params_codes)

    def _properties(self, rows: int, given: list[tuple[str, Codes, pa.Array]]) -> Column:
        """One code per distinct set of properties; its term is the set as JSON."""
        row_sets, sets = np.zeros(rows, "int32"), [{}]  # type: ignore[var-annotated]
        for name, codes, own in given:
            texts, width = own.to_pylist(), len(own) + 1
            row_sets, met = _paired(row_sets, codes, width, len(sets) * width)
            sets = [
                {**sets[pair // width], name: texts[pair % width - 1]}
                if pair % width
                else sets[pair // width]
                for pair in met.tolist()
            ]
        told = [json.dumps(found, ensure_ascii=False) if found else None for found in sets]
        return recode(row_sets, self._codes("props", pa.array(told, pa.string())))


CODED = pa.dictionary(pa.int32(), pa.string())
"""Texts as places in a dictionary of them."""


def is_coded(kind: pa.DataType) -> bool:
    """Whether a column is places in a dictionary of texts, as some formats have it already."""
    return bool(kind == CODED)


def coded(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """Places in a dictionary of texts of any kind, as `CODED`."""
    return pa.chunked_array(
        [
            pa.DictionaryArray.from_arrays(
                each.indices.cast(CODED.index_type), each.dictionary.cast(CODED.value_type)
            )
            for each in column.chunks
        ],
        CODED,
    )


def texts(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """A column as text, each row its own."""
    return column.cast(pa.string())


def texts_or_coded(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """A column as text; one that is coded stays so."""
    return column if is_coded(column.type) else texts(column)


def by_text(column: pa.ChunkedArray, function: Callable[[Any], Any]) -> Any:
    """What a function of texts is for each row; of a coded column it is asked once for a text."""
    if not is_coded(column.type):
        return function(column)
    chunks = [function(each.dictionary).take(each.indices) for each in column.chunks]
    return pa.chunked_array(chunks, None if chunks else function(pa.array([], pa.string())).type)


def distinct_texts(column: pa.ChunkedArray) -> Any:
    """A column as Arrow's dictionary of its distinct texts, and each row's place in it.

    That of a coded one may have texts that no row has.
    """
    if is_coded(column.type):
        return _whole_array(column.unify_dictionaries(), column.type)
    return _whole_array(texts(column), pa.string()).dictionary_encode()


def _whole_array(column: pa.ChunkedArray, kind: pa.DataType) -> Any:
    if column.num_chunks == 1:
        return column.chunk(0)  # to combine it with nothing would copy it
    array = column.combine_chunks()
    if isinstance(array, pa.ChunkedArray):
        array = pa.concat_arrays(array.chunks) if array.num_chunks else pa.array([], kind)
    return array


def _as_met(column: pa.ChunkedArray) -> Distinct:
    """What `_distinct` tells, of a coded column. Its dictionaries are of a chunk each, and may have
    texts that no row has, in another order, and one of them twice."""
    codes, met, begin = np.empty(len(column), "int32"), Texts(), 0
    for chunk in column.chunks:
        places = _buffers(chunk.indices)
        used = _used(*places, len(chunk.dictionary))
        coding = np.full(len(chunk.dictionary), NONE, "int32")
        coding[used] = met.numbers(chunk.dictionary.take(pa.array(used)))
        _code(*places, coding, codes[begin : begin + len(chunk)])
        begin += len(chunk)
    return codes, met.since(0).cast(pa.string())


_NONE_IS_NULL = read_only(np.empty(0, "u1"))


def _buffers(indices: pa.Int32Array) -> tuple[Codes, NDArray[np.uint8], int]:
    """The numbers; the bits of those that are not null, none if all are; and where these begin."""
    bits, numbers = (np.frombuffer(own or b"", "u1") for own in indices.buffers())
    begin = indices.offset
    own = numbers.view("int32")[begin : begin + len(indices)]
    return read_only(own), read_only(bits if indices.null_count else bits[:0]), begin


@inner_kernel
def _is_null(bits: NDArray[np.uint8], place: int) -> bool:
    return len(bits) > 0 and not (bits[place >> 3] >> (place & 7)) & 1


@kernel
def _used(places: Codes, bits: NDArray[np.uint8], begin: int, size: int) -> Codes:
    """Which of so many places there are, in the order in which they first appear."""
    met, order, count = np.zeros(size, np.bool_), np.empty(size, np.int32), 0
    for i in range(len(places)):
        if not _is_null(bits, begin + i) and not met[places[i]]:
            met[places[i]] = True
            order[count] = places[i]
            count += 1
            if count == size:
                break
    return order[:count].copy()


@kernel
def _code(places: Codes, bits: NDArray[np.uint8], begin: int, coding: Codes, codes: Codes) -> None:
    """The code of each place."""
    for i in range(len(places)):
        codes[i] = NONE if _is_null(bits, begin + i) else coding[places[i]]


_DENSE = 1 << 20
"""Numbers up to which a place is held for each."""


def _paired(sets: Codes, codes: Codes, width: int, size: int) -> tuple[Codes, NDArray[Any]]:
    """The pair of each row's set and code as a number below `size`: its place among the different
    ones, as they first appear; and these."""
    if size <= _DENSE:
        return _pairs_in_order_met(read_only(sets), read_only(codes), width, size)
    found = pa.array(sets.astype("int64") * width + codes + 1).dictionary_encode()
    return found.indices.to_numpy(), found.dictionary.to_numpy()


@kernel
def _pairs_in_order_met(sets: Codes, codes: Codes, width: int, size: int) -> tuple[Codes, Codes]:
    numbers, order = np.full(size, -1, np.int32), np.empty(size, np.int32)
    places, count = np.empty(len(codes), np.int32), 0
    for i in range(len(codes)):
        pair = sets[i] * width + codes[i] + 1
        if numbers[pair] < 0:
            numbers[pair], order[count] = count, pair
            count += 1
        places[i] = numbers[pair]
    return places, order[:count].copy()


def of_rows(distinct: Distinct, rows: NDArray[np.bool_]) -> Distinct:
    """The same of some of the rows alone."""
    codes, texts = distinct
    own = codes[rows]
    used = _used(read_only(own[own != NONE]), _NONE_IS_NULL, 0, len(texts))
    coding = np.full(len(texts), NONE, "int32")
    coding[used] = np.arange(len(used))
    return recode(own, coding), texts.take(pa.array(used))


_WORTH_TWO = 10_000
"""Rows from which on two threads gain more than beginning them costs."""


def distinct_of(table: pa.Table) -> dict[str, Distinct]:
    """The distinct texts of each column, and which of them each row has."""
    each = two_at_once if len(table) >= _WORTH_TWO else map
    return dict(zip(table.column_names, each(_distinct, table.columns), strict=True))


def _distinct(column: pa.ChunkedArray) -> Distinct:
    if column.null_count == len(column):
        return np.full(len(column), NONE, "int32"), pa.array([], pa.string())
    return _as_met(column if is_coded(column.type) else texts(column).dictionary_encode())


def _numbers(distinct: Distinct, value: Callable[[str], int], dtype: str) -> Column:
    """Per row the number that its text stands for; −1 where it has none."""
    codes, texts = distinct
    return recode(codes, np.array([value(text) for text in texts.to_pylist()], dtype)).astype(dtype)


def _whole(text: str) -> int:
    try:
        return min(max(int(text), NONE), 2**63 - 1)
    except ValueError:
        return NONE


def _canonical(text: str) -> str:
    """Params with the same content get the same text, whatever their key order and spacing.

    A member that is null is left out: columnar formats have one for every key of any row.
    """
    try:
        params = json.loads(text, strict=False)
        if isinstance(params, dict):
            params = {key: value for key, value in params.items() if value is not None}
        return json.dumps(params, sort_keys=True, ensure_ascii=False)
    except (ValueError, RecursionError):
        return text
