"""One JSON array of objects, on one line or many."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from typing import Any

import numpy as np
import pyarrow as pa

from mossy_trail.core.kernel import kernel
from mossy_trail.intake import records as rec
from mossy_trail.intake.formats.json_lines import parse_objects
from mossy_trail.intake.records import LONGEST_ROW, Records, blocks
from mossy_trail.intake.source import Source

_SPACES = b" \t\r\n"
_FLAT = bytes.maketrans(b"\r\n", b"  ")


_KEY = re.compile(rb'\s*"(?:[^"\\]|\\.)*"\s*:\s*')
_NAKED = re.compile(rb'"(?:[^"\\]|\\.)*"|[^\s,{}\[\]]+')


def opening_of_rows(head: bytes) -> int | None:
    """Where in one object that holds all rows their array begins; None if there is none.

    The object must hold the array itself, and begin the file; an object a line is another form.
    """
    first_line = head.lstrip().partition(b"\n")[0]
    try:
        whole = json.loads(first_line)
    except (ValueError, RecursionError):
        whole = None
    if isinstance(whole, dict) and head.lstrip()[len(first_line) :].strip():
        return None
    at = head.index(b"{") + 1
    while key := _KEY.match(head, at):
        at = key.end()
        if head[at : at + 1] == b"[" and head[at + 1 :].lstrip(_SPACES)[:1] == b"{":
            return at
        at = _value_end(head, at)
        comma = re.compile(rb"\s*,").match(head, at)
        if not comma:
            return None
        at = comma.end()
    return None


def _value_end(head: bytes, at: int) -> int:
    """Where the value that begins here ends, or the head does."""
    depth = 0
    while at < len(head):
        if head[at] in b"[{":
            depth, at = depth + 1, at + 1
        elif head[at] in b"]}":
            depth, at = depth - 1, at + 1
        elif naked := _NAKED.match(head, at):
            at = naked.end()
        else:
            at += 1
            continue
        if depth == 0:
            return at
    return at


class JsonArray:
    """Its elements are counted as rows, and kept as JSON Lines."""

    def description(self) -> dict[str, Any]:
        return {}

    def batches(self, source: Source) -> Iterator[tuple[Records, pa.Table]]:
        opening = len(source.head) - len(source.head.lstrip(_SPACES)) + 1
        source.skip(opening)
        for records in blocks(source, _cut):
            yield records, parse_objects(records)


def _cut(data: bytes, row: int, final: bool) -> Records:
    """Cut at the commas between elements, and put each element on a line of its own.

    No JSON string has a bare line end in it, so blanks can take the place of those between.
    """
    starts, ends, separators, consumed = _elements(np.frombuffer(data, "uint8"), final)
    buffer = np.frombuffer(data.translate(_FLAT), "uint8").copy()
    buffer[separators] = 10
    flaws = np.where(ends - starts > LONGEST_ROW, rec.TOO_LONG, rec.GOOD).astype("uint8")
    lines = row + np.arange(len(starts))
    return Records(buffer.tobytes(), starts, ends, lines, flaws, consumed, len(starts))


@kernel
def _elements(data: Any, final: bool) -> Any:
    n = len(data)
    room = 2 + n // 2
    starts, ends = np.empty(room, np.int64), np.empty(room, np.int64)
    separators = np.empty(room, np.int64)
    count = cut = consumed = depth = 0
    start, last, at = -1, -1, 0
    closed = False
    while at < n:
        byte = data[at]
        if byte == 34:
            start = at if start < 0 else start
            at += 1
            while at < n and data[at] != 34:
                at += 2 if data[at] == 92 else 1
            last = at
        elif depth == 0 and (byte == 44 or byte == 93):
            if start >= 0:
                starts[count], ends[count] = start, last + 1
                count += 1
            separators[cut] = at
            cut += 1
            start, consumed = -1, at + 1
            if byte == 93:
                closed = True
                break
        elif byte not in (32, 9, 10, 13):
            start = at if start < 0 else start
            last = at
            if byte == 123 or byte == 91:
                depth += 1
            elif byte == 125 or byte == 93:
                depth -= 1
        at += 1
    if final and not closed and start >= 0:
        starts[count], ends[count] = start, n
        count += 1
    if final or closed:
        consumed = n
    return starts[:count].copy(), ends[:count].copy(), separators[:cut].copy(), consumed
