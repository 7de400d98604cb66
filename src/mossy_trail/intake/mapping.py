"""How a file is read: which columns are which fields, and what its words mean."""

from __future__ import annotations

import hashlib
import hmac
import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from typing import Any

import polars as pl
import pyarrow as pa
import pyarrow.compute as pc

from mossy_trail.intake.coding import distinct_texts, is_coded, texts, texts_or_coded
from mossy_trail.intake.patterns import find
from mossy_trail.intake.rows import FIELDS
from mossy_trail.intake.times import Times
from mossy_trail.intake.words import CUSTOM, meaning, outcome_of, parted

JOINT = "/"
"""Stands between the parts of a value that is made of several columns."""


@dataclass(frozen=True)
class Mapping:
    """How a file is read.

    `fields`: per field the columns that make it up; of a nested value, a dotted path. Columns that
    make up no field are properties. `constants`: fields that are the same in every row.
    `events`: what the file's words mean, an event with or without an outcome (“sign_in ok”),
    “custom” or “leave out”; `outcomes`: what the words of an outcome's own column mean. Words that
    are in neither are taken as they are commonly meant. `patterns` tell screens inside words and
    addresses. `left_out` columns are not kept at all, of `hashed` ones only a keyed hash.
    """

    fields: dict[str, list[str]] = field(default_factory=dict)
    constants: dict[str, str] = field(default_factory=dict)
    events: dict[str, str] = field(default_factory=dict)
    outcomes: dict[str, str] = field(default_factory=dict)
    patterns: list[str] = field(default_factory=list)
    left_out: list[str] = field(default_factory=list)
    hashed: list[str] = field(default_factory=list)
    times: Times = field(default_factory=Times)

    @classmethod
    def of(cls, document: dict[str, Any]) -> Mapping:
        """The mapping that `dataclasses.asdict` made this of."""
        return cls(**{**document, "times": Times(**document.get("times", {}))})

    def only(self, fields: Sequence[str]) -> Mapping:
        """The same for some of the fields; columns of others become properties."""
        return replace(self, fields={name: self.fields.get(name, []) for name in fields})

    @property
    def missing(self) -> list[str]:
        """Fields without which no row can be used; `screen` stands for event or screen."""
        given = {name for name, columns in self.fields.items() if columns} | {
            name for name, value in self.constants.items() if value
        }
        missing = [name for name in ("time", "user") if name not in given]
        return missing if given & {"event", "screen"} else [*missing, "screen"]

    @property
    def masks(self) -> bool:
        """Whether rows are not kept just as they came."""
        return bool(self.left_out or self.hashed)


def shape_of(columns: Sequence[str]) -> str:
    """A fingerprint of a file's columns: files of one shape are read alike."""
    return hashlib.sha256("\n".join(sorted(columns)).encode()).hexdigest()[:32]


# Columns, and what lies nested in them.


def columns_of(table: pa.Table) -> list[str]:
    """The columns, and dotted paths to what lies nested in them."""
    found: list[str] = []
    for name in table.column_names:
        found += [name, *_paths(name, table[name])]
    return found


def _paths(name: str, column: pa.ChunkedArray) -> list[str]:
    """Paths to what lies in the objects of a column, those of any row."""
    if not (pa.types.is_string(column.type) or is_coded(column.type)):
        return []
    paths: dict[str, None] = {}
    for text in pc.unique(texts(column.slice(0, 20_000))).to_pylist()[:2000]:
        if text and text.lstrip().startswith("{"):
            try:
                _collect(name, json.loads(text), paths)
            except (ValueError, RecursionError):
                continue
    return list(paths)[:200]


def _collect(prefix: str, value: object, paths: dict[str, None]) -> None:
    if "." in prefix:
        paths[prefix] = None
    if isinstance(value, dict) and prefix.count(".") < 8:
        for key, inner in value.items():
            if key and not set(key) & set(".'\\"):
                _collect(f"{prefix}.{key}", inner, paths)


def column(table: pa.Table, name: str) -> pa.ChunkedArray:
    """A column, or what lies at a dotted path in one, as text."""
    outer = _outer(table, name)
    if outer is None:
        return pa.chunked_array([pa.nulls(table.num_rows, pa.string())])
    if outer == name:
        return texts_or_coded(table[name])
    path = "$" + "".join(f"['{part}']" for part in _inside(name, outer))
    texts = pl.Series(table[outer].cast(pa.string())).str.json_path_match(path)
    return pa.chunked_array([texts.to_arrow().cast(pa.string())])


def _outer(table: pa.Table, name: str) -> str | None:
    """The column that a path lies in."""
    parts = name.split(".")
    names = (".".join(parts[:cut]) for cut in range(len(parts), 0, -1))
    return next((outer for outer in names if outer in table.column_names), None)


def _inside(path: str, outer: str) -> list[str]:
    """The keys that lead from a column to what lies at a path in it."""
    return path[len(outer) + 1 :].split(".")


# Reading by a mapping.


def masked(mapping: Mapping, table: pa.Table, key: bytes) -> pa.Table:
    """The table as it may be kept: without what is left out, and hashed where it is to be."""
    for name in mapping.left_out:
        table = _hidden(table, name, None)
    for name in mapping.hashed:
        table = _hidden(table, name, partial(hashed, key=key))
    return table


def hashed(text: str, key: bytes) -> str:
    """What stands for a text that nobody is to read; the same for the same text and key."""
    return "h-" + hmac.digest(key, text.encode(), "sha256").hex()[:20]


def _hidden(table: pa.Table, name: str, stand_in: Callable[[str], str] | None) -> pa.Table:
    """The table with what lies under this name or path taken out, or with what stands for it."""
    outer = _outer(table, name)
    if outer is None:
        return table
    if outer != name:
        change = partial(_hidden_inside, path=_inside(name, outer), stand_in=stand_in)
        return _rewritten(table, outer, change)
    return _rewritten(table, name, stand_in) if stand_in else table.drop_columns([name])


def _hidden_inside(text: str, path: list[str], stand_in: Callable[[str], str] | None) -> str:
    """The JSON text without what lies at this path; not kept at all if it cannot be read."""
    try:
        document = inner = json.loads(text)
        for key in path[:-1]:
            inner = inner[key]
        value = inner.pop(path[-1], None)
        if stand_in and value is not None:
            inner[path[-1]] = stand_in(value if isinstance(value, str) else json.dumps(value))
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError):
        return text if not text.lstrip().startswith("{") else "{}"
    return json.dumps(document, ensure_ascii=False)


def _rewritten(table: pa.Table, name: str, rewrite: Callable[[str], str]) -> pa.Table:
    encoded = distinct_texts(table[name])
    texts = [text if text is None else rewrite(text) for text in encoded.dictionary.to_pylist()]
    place = table.schema.get_field_index(name)
    return table.set_column(place, name, _decoded(texts, encoded))


def apply(mapping: Mapping, table: pa.Table) -> pa.Table:
    """The table with its fields under our names, and all else as properties."""
    used = {name for columns in mapping.fields.values() for name in columns}
    given, whole = mapping.fields.get("params", []), table
    result: dict[str, pa.ChunkedArray] = {}
    for name in table.column_names:
        inside = sorted(path for path in used if path.startswith(f"{name}."))
        if inside and name not in used:
            # Taken apart: what no field is made of stands by itself.
            for path in _loose(name, table, used):
                result[path] = column(table, path)
        elif name not in used:
            result[f"{name} (column)" if name in FIELDS else name] = table[name]
        elif inside and given == [name]:
            for path in inside:
                table = _rewritten(table, name, partial(_less, path=_inside(path, name)))
    for name, constant in mapping.constants.items():
        result[name] = pa.chunked_array([pa.repeat(constant, table.num_rows)])
    for name, columns in mapping.fields.items():
        if name == "time" and len(columns) == 1 and columns[0] in table.column_names:
            result[name] = table[columns[0]]  # as it is typed: moments need not go through text
        elif columns:
            joint = " " if name == "time" else JOINT
            # Params are what is left of them when other fields have taken theirs.
            source = table if name == "params" else whole
            result[name] = _joined([column(source, part) for part in columns], joint)
    return _translated(mapping, pa.table(result))


def _loose(name: str, table: pa.Table, used: set[str]) -> list[str]:
    """Paths in a column to values that no field is made of."""
    paths = _paths(name, table[name])
    outer = {path for path in paths if any(other.startswith(f"{path}.") for other in paths)}
    return [
        path
        for path in paths
        if path not in outer and not any(f"{path}.".startswith(f"{one}.") for one in used)
    ]


def _less(text: str, path: list[str]) -> str:
    """Params without what is a field of its own; none if nothing is left."""
    left = _hidden_inside(text, path, None)
    return "" if left == "{}" else left


def _joined(columns: list[pa.ChunkedArray], joint: str) -> pa.ChunkedArray:
    if len(columns) == 1:
        return columns[0]
    frame = pl.DataFrame([pl.Series(str(i), texts(column)) for i, column in enumerate(columns)])
    both = frame.select(pl.concat_str(pl.all(), separator=joint, ignore_nulls=True)).to_series()
    return pa.chunked_array([both.to_arrow().cast(pa.string())])


# What words mean.


def _translated(mapping: Mapping, table: pa.Table) -> pa.Table:
    """The table with events, outcomes and screens in our words."""
    told = None
    if "outcome" in table.column_names:
        table = _rewritten(
            table, "outcome", lambda word: mapping.outcomes.get(word) or outcome_of(word) or word
        )
        told = table["outcome"]
    if mapping.patterns:
        for name in ("screen", "from"):
            if name in table.column_names:
                table = _with_screens(mapping, table, name)
    if "event" in table.column_names:
        table = _with_events(mapping, table, told)
    return table


def _with_events(mapping: Mapping, table: pa.Table, told: pa.ChunkedArray | None) -> pa.Table:
    encoded = distinct_texts(table["event"])
    words = encoded.dictionary.to_pylist()
    found = [None if word in mapping.events else find(mapping.patterns, word) for word in words]
    meant = [
        "screen_view" if here else _meant(mapping, word)
        for word, here in zip(words, found, strict=True)
    ]
    events, outcomes = zip(*map(parted, meant), strict=True) if meant else ((), ())
    table = _put(table, "event", _decoded(list(events), encoded))
    if any(outcomes):
        own = _decoded([outcome or None for outcome in outcomes], encoded)
        table = _put(
            table, "outcome", own if told is None else pc.coalesce(texts(own), texts(told))
        )
    if any(found):
        screens = _decoded([here and here.screen for here in found], encoded)
        given = table["screen"] if "screen" in table.column_names else screens
        table = _put(table, "screen", pc.coalesce(texts(screens), texts(given)))
        table = _with_params(table, _decoded([_as_params(here) for here in found], encoded))
    return table


def _meant(mapping: Mapping, word: str) -> str:
    """What a word means; a mark of its own keeps its name, unless that is an event's."""
    chosen = mapping.events.get(word)
    if chosen == CUSTOM:
        return f"{word} (mark)" if meaning(word) else word
    return chosen or meaning(word) or word


def _with_screens(mapping: Mapping, table: pa.Table, name: str) -> pa.Table:
    """Names of screens, and params, out of the values that patterns fit."""
    encoded = distinct_texts(table[name])
    values = encoded.dictionary.to_pylist()
    found = [find(mapping.patterns, value) for value in values]
    screens = [here.screen if here else value for value, here in zip(values, found, strict=True)]
    table = _put(table, name, _decoded(screens, encoded))
    if name != "screen":
        return table
    return _with_params(table, _decoded([_as_params(here) for here in found], encoded))


def _as_params(found: Any) -> str | None:
    return json.dumps(found.params, ensure_ascii=False) if found and found.params else None


def _with_params(table: pa.Table, found: pa.ChunkedArray) -> pa.Table:
    """Params that patterns found stand beside those of the row, which win."""
    if "params" not in table.column_names:
        return _put(table, "params", found)
    own = table["params"].cast(pa.string()).to_pylist()
    both = [
        _merged(a, b) if a and b else a or b for a, b in zip(own, found.to_pylist(), strict=True)
    ]
    return _put(table, "params", pa.chunked_array([pa.array(both, pa.string())]))


def _merged(own: str, found: str) -> str:
    try:
        return json.dumps({**json.loads(found), **json.loads(own)}, ensure_ascii=False)
    except (ValueError, TypeError, RecursionError):
        return own


def _put(table: pa.Table, name: str, column: pa.ChunkedArray) -> pa.Table:
    place = table.schema.get_field_index(name)
    if place < 0:
        return table.append_column(name, column)
    return table.set_column(place, name, column)


def _decoded(told: Sequence[str | None], encoded: Any) -> pa.ChunkedArray:
    return pa.chunked_array(
        [pa.DictionaryArray.from_arrays(encoded.indices, pa.array(told, pa.string()))]
    )
