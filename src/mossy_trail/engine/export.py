"""Steps and rows as tables, and tables as files: CSV, JSON Lines, Parquet, XES."""

from __future__ import annotations

import io
import json
import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from itertools import chain
from pathlib import Path
from typing import Any
from xml.sax.saxutils import quoteattr

import numpy as np
import polars as pl
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as arrow_csv
import pyarrow.parquet as parquet
from numpy.typing import NDArray

from mossy_trail.core.model.log import EVENTS, NONE, OUTCOMES, VIAS, empty_log
from mossy_trail.core.model.steps import EXITS, MARKS, MOVES, REGIONS, Steps
from mossy_trail.core.replay.replay import replay
from mossy_trail.engine.study import Study

FORMULA = r"^('*[=+\-@\t\r])"
"""How a text begins that a spreadsheet would take for a formula, or that was made harmless."""
_SLICE = 50_000
"""Rows or steps that are written at once."""


def steps_table(steps: Steps, first: int = 0, last: int | None = None) -> pa.Table:
    """The steps from `first` up to `last` with every exported column, one row each."""
    chosen = slice(first, len(steps.steps.entry) if last is None else last)
    column, entries, places = steps.steps, steps.entries, steps.places
    entry = column.entry[chosen]
    journey = column.journey[chosen]
    below = column.below[chosen]
    has_below = below != NONE
    journeys = steps.journeys
    terms = steps.log.terms
    number = np.arange(first, first + len(entry), dtype="int32")
    is_last = number == (journeys.first_step + journeys.steps - 1)[journey]
    return pa.table(
        {
            "user": _texts(terms["user"], journeys.user[journey]),
            "session": _texts(terms["session"], journeys.session[journey]),
            "step": number - journeys.first_step[journey] + 1,
            "asked_at": _moments(column.asked[chosen]),
            "time": _moments(column.visible[chosen]),
            "until": _moments(steps.until[chosen]),
            "screen": _texts(places.names, entries.screen[entry]),
            "params": _texts(steps.places.params, entries.params[entry]),
            "wanted": _texts(places.names, column.wanted[chosen]),
            "tab": _texts(places.tab_names, entries.tab[entry]),
            "tab_reported": _texts(places.tab_names, column.tab_reported[chosen]),
            "move": _texts(MOVES, column.move[chosen]),
            "inferred": column.inferred[chosen],
            "unsure": column.unsure[chosen],
            "region": _texts(REGIONS, entries.region[entry]),
            "depth": entries.depth[entry],
            "below": _texts(places.names, np.where(has_below, entries.screen[below], NONE)),
            "below_params": _texts(
                steps.places.params, np.where(has_below, entries.params[below], NONE)
            ),
            "load_ms": _milliseconds(steps.load[chosen]),
            "dwell_ms": _milliseconds(steps.dwell[chosen]),
            "link": _texts(terms["uri"], column.uri[chosen]),
            "source": _texts(terms["word"], column.source[chosen]),
            "exit": _texts(EXITS, np.where(is_last, journeys.exit[journey].astype("int32"), NONE)),
            "properties": _texts(
                terms["props"], steps.log.columns["props"][column.first_row[chosen]]
            ),
            "marks": _marks(column.marks[chosen]),
            "rows": _rows(steps, number),
        }
    )


def _texts(names: Sequence[str], codes: NDArray[np.generic]) -> pa.Array:
    """The names of codes, null for −1; only names that occur are looked at."""
    occurring, indices = np.unique(codes, return_inverse=True)
    found = pa.array([names[code] if code >= 0 else None for code in occurring], pa.string())
    return found.take(pa.array(indices))


def _moments(microseconds: NDArray[np.int64]) -> pa.Array:
    return pa.array(microseconds, mask=microseconds < 0).cast(pa.timestamp("us", "UTC"))


def _milliseconds(microseconds: NDArray[np.int64]) -> pa.Array:
    return pa.array(microseconds // 1000, mask=microseconds < 0)


def _marks(bits: NDArray[np.uint16]) -> pa.Array:
    has = (bits[:, None] >> np.arange(len(MARKS), dtype="uint16")) & 1
    step, mark = np.nonzero(has)
    offsets = np.searchsorted(step, np.arange(len(bits) + 1)).astype("int32")
    return pa.ListArray.from_arrays(pa.array(offsets), _texts(MARKS, mark))


def _rows(steps: Steps, number: NDArray[np.int32]) -> pa.Array:
    """Per step the file and line of each of its rows."""
    journeys, columns = steps.journeys, steps.log.columns
    if not len(number):
        empty = pa.struct([("file", pa.string()), ("line", pa.int32())])
        return pa.array([], pa.list_(empty))
    begin = steps.steps.first_row[number]
    journey = steps.steps.journey[number]
    end = (journeys.first_row + journeys.rows)[journey]
    goes_on = np.append(journey[1:] == journey[:-1], False)
    end[goes_on] = begin[1:][goes_on[:-1]]
    counts = end - begin
    offsets = np.concatenate(([0], np.cumsum(counts))).astype("int32")
    rows = np.repeat(begin - offsets[:-1], counts) + np.arange(offsets[-1])
    files = _texts(steps.log.terms["file"], columns["file"][rows])
    lines = pa.array(columns["line"][rows])
    places = pa.StructArray.from_arrays([files, lines], ["file", "line"])
    return pa.ListArray.from_arrays(pa.array(offsets), places)


def steps_of(study: Study, mask: NDArray[np.bool_] | None = None) -> Iterator[pa.Table]:
    """Tables of all steps, or of those of the index's journeys that `mask` names.

    There is one at the least, so that a file without steps has its columns.
    """
    if not study.parts:
        yield steps_table(replay(empty_log(), study.app_map))
    for number, part in enumerate(study.parts):
        count = len(part.steps.entry)
        for first in range(0, max(count, 1), _SLICE):
            last = min(first + _SLICE, count)
            table = steps_table(part, first, last)
            if mask is not None:
                chosen = mask[study.index.part == number]
                table = table.filter(pa.array(chosen[part.steps.journey[first:last]]))
            yield table


def rows_of(study: Study, mask: NDArray[np.bool_] | None = None) -> Iterator[pa.Table]:
    """Tables of the log's rows under our own names, by user and time; properties as columns.

    Read again, they give the same steps.
    """
    if not study.parts:
        yield _rows_table(replay(empty_log(), study.app_map), np.arange(0), [], [])
    parsed = [json.loads(text) for text in study.terms["props"]]
    properties = list(dict.fromkeys(name for found in parsed for name in found))
    for number, part in enumerate(study.parts):
        rows = np.arange(len(part.log))
        if mask is not None:
            chosen = mask[study.index.part == number]
            rows = rows[np.repeat(chosen, part.journeys.rows)]
        for first in range(0, max(len(rows), 1), _SLICE):
            yield _rows_table(part, rows[first : first + _SLICE], parsed, properties)


def _rows_table(
    steps: Steps,
    rows: NDArray[np.int64],
    parsed: Sequence[Mapping[str, str]],
    properties: Sequence[str],
) -> pa.Table:
    terms = steps.log.terms
    column = {name: values[rows] for name, values in steps.log.columns.items()}
    words = _texts(terms["word"], column["word"])
    own = {
        "time": pa.array(column["time"]).cast(pa.timestamp("us", "UTC")),
        "user": _texts(terms["user"], column["user"]),
        "account": _texts(terms["account"], column["account"]),
        "session": _texts(terms["session"], column["session"]),
        "order": pa.array(column["order"], mask=column["order"] == NONE),
        "event": pc.coalesce(words, _texts(EVENTS, column["event"])),
        "screen": _texts(terms["screen"], column["screen"]),
        "from": _texts(terms["screen"], column["origin"]),
        "tab": _texts(terms["word"], column["tab"]),
        "uri": _texts(terms["uri"], column["uri"]),
        "source": _texts(terms["word"], column["source"]),
        "outcome": _texts(OUTCOMES, column["outcome"]),
        "params": _texts(terms["params"], column["params"]),
        "count": pa.array(column["count"], mask=column["count"] == NONE),
        "via": _texts(VIAS, column["via"]),
    }
    sets, indices = np.unique(column["props"], return_inverse=True)
    for name in properties:
        values = [parsed[code].get(name) if code != NONE else None for code in sets]
        own[name] = pa.array(values, pa.string()).take(pa.array(indices))
    return pa.table(own)


def write_steps(study: Study, path: Path) -> int:
    """Write all steps to a file; the suffix tells the format. Returns how many there are."""
    with path.open("wb") as file:
        for chunk in stream(steps_of(study), path.suffix[1:]):
            file.write(chunk)
    return study.steps


def stream(tables: Iterable[pa.Table], form: str) -> Iterator[bytes]:
    """The bytes of a file of these tables, piece by piece; `form` is one of `FORMS`."""
    given = iter(tables)
    first = next(given)
    yield from FORMS[form](first.schema, chain([first], given))


def _csv(schema: pa.Schema, tables: Iterator[pa.Table]) -> Iterator[bytes]:
    buffer = io.BytesIO()
    with arrow_csv.CSVWriter(buffer, _flat(schema.empty_table()).schema) as writer:
        for table in tables:
            writer.write_table(_flat(table))
            yield _drained(buffer)
    yield _drained(buffer)


def _json_lines(schema: pa.Schema, tables: Iterator[pa.Table]) -> Iterator[bytes]:
    first = next(tables)
    for table in chain([_telling_first(first)], tables):
        yield pl.DataFrame(_timed_as_text(table)).write_ndjson().encode()


_LOOKED_AT = 100
"""Lines of JSON by which readers tell what a column is, if they are not asked to look at more."""


def _telling_first(table: pa.Table) -> pa.Table:
    """The same rows, but before all others those of some users by which each column shows what it
    is: one of nulls or empty lists alone would be read as of no type, and what follows be lost."""
    shown = [_filled(column) for column in table.columns]
    user, telling = _runs(table["user"]), list[int]()
    lengths = np.bincount(user)
    while True:
        moved = np.isin(user, telling)
        order = np.concatenate([np.flatnonzero(moved), np.flatnonzero(~moved)])
        silent = [own for own in shown if own.any() and not own[order[:_LOOKED_AT]].any()]
        if not silent or moved.sum() > _LOOKED_AT:
            return table.take(pa.array(order)) if telling else table
        having = np.unique(user[silent[0]])
        telling.append(int(having[np.argmin(lengths[having])]))


def _filled(column: pa.ChunkedArray) -> NDArray[np.bool_]:
    """Where a column has a value, and a list one at the least."""
    if pa.types.is_list(column.type):
        return np.asarray(pc.fill_null(pc.list_value_length(column), 0).to_numpy() > 0)
    return np.asarray(pc.is_valid(column).to_numpy())


def _runs(column: pa.ChunkedArray) -> NDArray[np.int64]:
    """The number of each value's run, from 0."""
    values = column.combine_chunks()
    changes = pc.not_equal(values[1:], values[:-1]).to_numpy(zero_copy_only=False)
    return np.cumsum(np.concatenate([np.zeros(min(len(values), 1), bool), changes]))


def _parquet(schema: pa.Schema, tables: Iterator[pa.Table]) -> Iterator[bytes]:
    buffer = _Draining()
    with parquet.ParquetWriter(buffer, schema) as writer:
        for table in tables:
            writer.write_table(table)
            yield buffer.drained()
    yield buffer.drained()


class _Draining(io.RawIOBase):
    """A sink that knows how much was written, and gives it away."""

    def __init__(self) -> None:
        self._pieces: list[bytes] = []
        self._position = 0

    def writable(self) -> bool:
        return True

    def write(self, data: Any) -> int:
        piece = bytes(data)
        self._pieces.append(piece)
        self._position += len(piece)
        return len(piece)

    def tell(self) -> int:
        return self._position

    def drained(self) -> bytes:
        pieces, self._pieces = self._pieces, []
        return b"".join(pieces)


def _drained(buffer: io.BytesIO) -> bytes:
    data = buffer.getvalue()
    buffer.seek(0)
    buffer.truncate()
    return data


_XES_HEAD = (
    '<?xml version="1.0" encoding="UTF-8"?>\n'
    '<log xes.version="1849.2016" xes.features="" xmlns="http://www.xes-standard.org/">\n'
    '<extension name="Concept" prefix="concept" '
    'uri="http://www.xes-standard.org/concept.xesext"/>\n'
    '<extension name="Time" prefix="time" uri="http://www.xes-standard.org/time.xesext"/>\n'
    '<global scope="trace"><string key="concept:name" value=""/><string key="user" value=""/>'
    "</global>\n"
    '<global scope="event"><date key="time:timestamp" value="1970-01-01T00:00:00Z"/>'
    '<string key="concept:name" value=""/><string key="{how}" value=""/></global>\n'
    '<classifier name="Screen" keys="concept:name"/>\n'
    '<classifier name="Screen and {how}" keys="concept:name {how}"/>\n'
)
_NOT_XML = re.compile("[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


def _xes(schema: pa.Schema, tables: Iterator[pa.Table]) -> Iterator[bytes]:
    """IEEE 1849-2016. A trace is a session of a user, named by it, or else by user and begin; its
    activity is the screen, or the event."""
    yield _XES_HEAD.replace("{how}", "move" if "move" in schema.names else "event").encode()
    trace: tuple[str, str | None] | None = None
    for table in tables:
        lines: list[str] = []
        for row in _timed_as_text(_listed_as_words(table)).to_pylist():
            own = row["user"], row["session"]
            if own != trace or (row.get("step") == 1 and not own[1]):
                lines.append("</trace>" if trace else "")
                name = own[1] or f"{own[0]} {row['time']}"
                lines.append(f"<trace>{_xes_text('concept:name', name)}")
                lines.append(_xes_text("user", own[0]))
                # A log read again must not take the name for a session that it has not told.
                lines.append("" if own[1] else _xes_text("session", ""))
                trace = own
            lines.append(_xes_event(row))
        yield "\n".join(filter(None, lines)).encode() + b"\n"
    yield b"</trace>\n</log>\n" if trace else b"</log>\n"


def _xes_event(row: Mapping[str, Any]) -> str:
    attributes = [
        f'<date key="time:timestamp" value={quoteattr(row["time"])}/>',
        _xes_text("concept:name", row["screen"] or row.get("event") or ""),
    ]
    for key, value in row.items():
        if value is not None and key not in ("user", "session", "time"):
            attributes.append(_xes_text(key, value))
    return f"<event>{''.join(attributes)}</event>"


def _xes_text(key: str, value: Any) -> str:
    kind, text = "string", str(value)
    if isinstance(value, bool):
        kind, text = "boolean", text.lower()
    elif isinstance(value, int):
        kind = "int"
    key, text = (quoteattr(_NOT_XML.sub("\N{REPLACEMENT CHARACTER}", t)) for t in (key, text))
    return f"<{kind} key={key} value={text}/>"


Form = Callable[[pa.Schema, Iterator[pa.Table]], Iterator[bytes]]
FORMS: dict[str, Form] = {"csv": _csv, "jsonl": _json_lines, "parquet": _parquet, "xes": _xes}
MEDIA_TYPES = {
    "csv": "text/csv",
    "jsonl": "application/x-ndjson",
    "parquet": "application/vnd.apache.parquet",
    "xes": "application/xml",
}


def _timed_as_text(table: pa.Table) -> pa.Table:
    for i, field in enumerate(table.schema):
        if pa.types.is_timestamp(field.type):
            text = pc.strftime(table[field.name], "%Y-%m-%dT%H:%M:%SZ")
            table = table.set_column(i, field.name, text)
    return table


def _listed_as_words(table: pa.Table) -> pa.Table:
    """Lists as words with a space between, rows as FILE:LINE."""
    for name in ("marks", "rows"):
        if name in table.column_names:
            lists = table[name].combine_chunks().to_pylist()
            texts = pa.array([" ".join(map(_word, found)) for found in lists], pa.string())
            table = table.set_column(table.schema.get_field_index(name), name, texts)
    return table


def _word(item: str | dict[str, object]) -> str:
    return item if isinstance(item, str) else f"{item['file']}:{item['line']}"


def _flat(table: pa.Table) -> pa.Table:
    """As CSV can hold it; formulas are made harmless."""
    table = _timed_as_text(_listed_as_words(table))
    for i, field in enumerate(table.schema):
        if pa.types.is_string(field.type):
            safe = pc.replace_substring_regex(table[field.name], FORMULA, r"'\1")
            table = table.set_column(i, field.name, safe)
    return table


def harmless(cell: str | int) -> str | int:
    """A text that a spreadsheet would take for a formula is kept a text."""
    return re.sub(FORMULA, r"'\1", cell) if isinstance(cell, str) else cell
