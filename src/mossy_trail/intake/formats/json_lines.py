"""JSON Lines: one object a line."""

from __future__ import annotations

import io
import json
from collections.abc import Iterator
from typing import Any

import numpy as np
import polars as pl
import pyarrow as pa
import pyarrow.compute as pc

from mossy_trail.core.kernel import kernel
from mossy_trail.intake import records as rec
from mossy_trail.intake.records import (
    LONGEST_ROW,
    MOST_COLUMNS,
    Records,
    TooManyColumns,
    blocks,
    line_ends,
)
from mossy_trail.intake.source import Source

DEEPEST = 200
"""Opening brackets in a line beyond which the wary reader takes over from the fast one."""


class JsonLines:
    def batches(self, source: Source) -> Iterator[tuple[Records, pa.Table]]:
        for records in blocks(source, cut_lines):
            yield records, parse_objects(records)

    def description(self) -> dict[str, Any]:
        return {}


def parse_objects(records: Records) -> pa.Table:
    """The good records as columns of text; flags those that are no JSON objects."""
    good = int((records.flaws == rec.GOOD).sum())
    data = bytes(records.good_bytes())
    if not good:
        return pa.table({})
    try:
        if _nested(records):
            raise ValueError
        table = _fast(data)
        if table.num_rows == good:
            return table
    except TooManyColumns:
        raise
    except (pl.exceptions.PolarsError, ValueError):
        pass
    return _wary(records)


def cut_lines(data: bytes, line: int, final: bool) -> Records:
    buffer = np.frombuffer(data, "uint8")
    ends = line_ends(data, final)
    starts = np.concatenate(([0], ends[:-1] + 1)) if len(ends) else ends
    consumed = min(int(ends[-1]) + 1, len(data)) if len(ends) else 0
    lines = line + np.arange(len(ends))
    lengths = ends - starts
    first = buffer[np.minimum(starts, len(data) - 1)] if len(data) else starts
    blank = (lengths == 0) | ((lengths == 1) & (first == 13))
    for i in np.flatnonzero((first == 32) | (first == 9)):
        blank[i] = not data[starts[i] : ends[i]].strip()
    flaws = np.where(lengths > LONGEST_ROW, rec.TOO_LONG, rec.GOOD).astype("uint8")
    keep = ~blank
    return Records(data, starts[keep], ends[keep], lines[keep], flaws[keep], consumed, len(ends))


def _nested(records: Records) -> bool:
    buffer = np.frombuffer(records.data, "uint8")
    opening = np.flatnonzero((buffer == 91) | (buffer == 123))
    per_record = np.diff(np.searchsorted(opening, np.append(records.starts, records.consumed)))
    return bool((per_record > DEEPEST).any())


def _fast(data: bytes) -> pa.Table:
    spans, count, nested = _survey(np.frombuffer(data, "uint8"))
    if count > MOST_COLUMNS:
        raise TooManyColumns(count)
    keys = [json.loads(b'"%s"' % data[a:b]) for a, b in spans[:count]]
    frame = pl.read_ndjson(io.BytesIO(data), schema=dict.fromkeys(keys, pl.String))
    return _with_nested(frame.to_arrow(), data, keys, nested)


def _with_nested(table: pa.Table, data: bytes, keys: list[str], nested: Any) -> pa.Table:
    """Put nested values in as they stand; as text Polars would leave their quotes unescaped."""
    for slot in np.unique(nested[:, 1]):
        places = nested[nested[:, 1] == slot]
        mask = np.zeros(table.num_rows, bool)
        mask[places[:, 0]] = True
        texts = [data[a:b].decode() for a, b in places[:, 2:].tolist()]
        column = table[keys[slot]].cast(pa.string()).combine_chunks()
        column = pc.replace_with_mask(column, pa.array(mask), pa.array(texts))
        table = table.set_column(table.schema.get_field_index(keys[slot]), keys[slot], column)
    return table


QUOTE, BACKSLASH, COMMA, LINE = 34, 92, 44, 10
OPEN, CLOSE, OPEN_LIST, CLOSE_LIST = 123, 125, 91, 93


@kernel
def _survey(data: Any) -> Any:
    """Find the keys of the outer objects, and the nested values under them.

    Returns where each distinct key first stands (told apart by a hash of its bytes), how many
    there are, and per nested value its record, its key's number, its start and its end.
    """
    n = len(data)
    spans, hashes = np.zeros((MOST_COLUMNS + 1, 2), np.int64), np.zeros(4 * MOST_COLUMNS, np.uint64)
    numbers = np.zeros(4 * MOST_COLUMNS, np.int64)
    nested = np.empty((n // 6 + 1, 4), np.int64)
    count = found = depth = at = record = key = opened = 0
    key_next = begun = False
    while at < n and count <= MOST_COLUMNS:
        byte = data[at]
        if byte == QUOTE:
            start = at + 1
            at = _string_end(data, start)
            if depth == 1 and key_next:
                key = _note_key(data, start, min(at, n), spans, hashes, numbers, count)
                count = max(count, key + 1)
                key_next = False
        elif byte == OPEN or byte == OPEN_LIST:
            opened = at if depth == 1 else opened
            depth += 1
            key_next = byte == OPEN and depth == 1
            begun = True
        elif byte == CLOSE or byte == CLOSE_LIST:
            depth -= 1
            if depth == 1:
                nested[found, 0], nested[found, 1] = record, key
                nested[found, 2], nested[found, 3] = opened, at + 1
                found += 1
        elif byte == COMMA:
            key_next = depth == 1
        elif byte == LINE:
            record += 1 if begun else 0  # blank lines are no records
            depth, begun = 0, False
        at += 1
    return spans, count, nested[:found].copy()


@kernel
def _string_end(data: Any, at: int) -> int:
    while at < len(data) and data[at] != QUOTE:
        at += 2 if data[at] == BACKSLASH else 1
    return at


@kernel
def _note_key(
    data: Any, start: int, end: int, spans: Any, hashes: Any, numbers: Any, count: int
) -> int:
    """The number of this key; `count` when it is new."""
    mixed = np.uint64(1469598103934665603)  # FNV-1a
    for i in range(start, end):
        mixed = (mixed ^ np.uint64(data[i])) * np.uint64(1099511628211)
    mixed |= np.uint64(1)
    slot = mixed % np.uint64(len(hashes))
    while hashes[slot] != 0:
        if hashes[slot] == mixed:
            return numbers[slot]
        slot = (slot + np.uint64(1)) % np.uint64(len(hashes))
    hashes[slot], numbers[slot] = mixed, count
    spans[count, 0], spans[count, 1] = start, end
    return count


def _wary(records: Records) -> pa.Table:
    """Line by line, for blocks in which something is amiss: finds and flags each bad line."""
    objects: list[dict[str, Any]] = []
    for i in np.flatnonzero(records.flaws == rec.GOOD).tolist():
        try:
            found = json.loads(records.text(i))
        except UnicodeDecodeError:
            records.flaws[i] = rec.NOT_UTF8
            continue
        except RecursionError:
            records.flaws[i] = rec.TOO_DEEP
            continue
        except ValueError:
            found = None
        if isinstance(found, dict):
            objects.append({str(_text(name)): value for name, value in found.items()})
        else:
            records.flaws[i] = rec.BAD_JSON
    names = dict.fromkeys(name for found in objects for name in found)
    if len(names) > MOST_COLUMNS:
        raise TooManyColumns(len(names))
    return pa.table(
        {
            name: pa.array([_text(found.get(name)) for found in objects], pa.string())
            for name in names
        }
    )


def _text(value: Any) -> str | None:
    """Half of a pair of surrogates is no letter, and cannot be kept."""
    if value is None or isinstance(value, str):
        return value and value.encode("utf-8", "replace").decode()
    return json.dumps(value)
