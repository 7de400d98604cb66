"""One JSON array of objects, on one line or many."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from functools import partial
from typing import Any

import numpy as np
import pyarrow as pa

from mossy_trail.core.kernel import kernel
from mossy_trail.intake import records as rec
from mossy_trail.intake.formats.json_lines import (
    BACKSLASH,
    CLOSE,
    CLOSE_LIST,
    COMMA,
    LINE,
    OPEN,
    OPEN_LIST,
    QUOTE,
    parse_objects,
)
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
    """Its elements are counted as rows, and kept as JSON Lines.

    An element that is broken costs itself: the reading goes on with the next.
    """

    def __init__(self, inside: bool = False) -> None:
        self._inside = inside
        """Whether the array stands in an object, so that something may follow it."""

    def description(self) -> dict[str, Any]:
        return {}

    def batches(self, source: Source) -> Iterator[tuple[Records, pa.Table]]:
        opening = len(source.head) - len(source.head.lstrip(_SPACES)) + 1
        source.skip(opening)
        for records in blocks(source, partial(_cut, self._inside)):
            yield records, parse_objects(records)


def _cut(inside: bool, data: bytes, row: int, final: bool) -> Records:
    """Cut at the commas between elements, and put each element on a line of its own.

    No JSON string has a bare line end in it, so blanks can take the place of those between.
    """
    found = _elements(np.frombuffer(data, "uint8"), final, inside)
    starts, ends, separators, broken, consumed = found
    buffer = np.frombuffer(data.translate(_FLAT), "uint8").copy()
    buffer[separators] = LINE
    flaws = np.where(broken, rec.BAD_JSON, rec.GOOD).astype("uint8")
    flaws[ends - starts > LONGEST_ROW] = rec.TOO_LONG
    lines = row + np.arange(len(starts))
    return Records(buffer.tobytes(), starts, ends, lines, flaws, consumed, len(starts))


_COLON = 58
_DEEPEST = 1024
"""So many brackets are told apart in an element; deeper in, what is broken is not found."""
_ALIKE = 8
_NOWHERE = -1


@kernel
def _elements(data: Any, final: bool, inside: bool) -> Any:
    """Where elements start and end, the bytes between them, which are surely broken, and how many
    bytes are through.

    What no JSON can have tells that an element is broken: a line end in a string, a string that
    nothing right follows, a bracket that closes another kind, a brace where an object's next key
    should stand. The element then ends where a comma and a brace come together.
    """
    n = len(data)
    room = 2 + n // 2
    starts, ends = np.empty(room, np.int64), np.empty(room, np.int64)
    separators, broken = np.empty(room, np.int64), np.zeros(room, np.bool_)
    kinds = np.zeros(_DEEPEST, np.uint8)
    count = cut = consumed = depth = 0
    start, last, at = _NOWHERE, _NOWHERE, 0
    closed = False
    while at < n:
        byte, failed = data[at], False
        ended = begins = _NOWHERE
        if byte == QUOTE:
            start = at if start < 0 else start
            at = _string_end(data, at + 1)
            failed = at < n and data[at] != QUOTE
            after = _next(data, at + 1)
            if not failed and after < n:
                failed = data[after] not in (COMMA, _COLON, CLOSE, CLOSE_LIST)
            last = at
        elif depth == 0 and (byte == COMMA or byte == CLOSE_LIST):
            if start >= 0:
                starts[count], ends[count] = start, last + 1
                count += 1
            separators[cut] = at
            cut += 1
            start, consumed = _NOWHERE, at + 1
            # what follows a bracket too many, or a whole array, is read on
            if byte == CLOSE_LIST and not _goes_on(data, at + 1, starts[0], count, inside):
                closed = True
                break
        elif byte == _COLON:
            if depth == 0 and start >= 0:  # a key: the brace before it is missing
                kinds[0], depth = OPEN, 1
            failed = 0 < depth <= _DEEPEST and kinds[depth - 1] == OPEN_LIST
            last = at
        elif not _is_space(byte):
            if byte == OPEN_LIST and start < 0:
                after = _next(data, at + 1)
                if after < n and data[after] == OPEN:
                    at += 1  # one array after another
                    continue
            if byte == OPEN and start >= 0:
                if depth == 0 and last < at - 1:
                    ended, begins = at - 1, at  # the comma between two elements is missing
                elif depth == 0:
                    broken[count] = True
                elif depth <= _DEEPEST and kinds[depth - 1] == OPEN and data[last] == COMMA:
                    ended, begins, failed = last, at, True
            if ended == _NOWHERE:
                start = at if start < 0 else start
                last = at
                if byte == OPEN or byte == OPEN_LIST:
                    if depth < _DEEPEST:
                        kinds[depth] = byte
                    depth += 1
                elif byte == CLOSE or byte == CLOSE_LIST:
                    broken[count] = broken[count] or depth == 0
                    depth = max(depth - 1, 0)
                    if depth < _DEEPEST:
                        failed = kinds[depth] + 2 != byte and not broken[count]
        if failed and ended == _NOWHERE:
            ended, begins = _next_boundary(data, start, at)
            if ended == _NOWHERE:
                if final:
                    break
                at = n  # it may come with the bytes that follow
                continue
        if ended != _NOWHERE:
            starts[count], ends[count] = start, ended
            broken[count] = broken[count] or failed
            separators[cut] = ended
            cut += 1
            count += 1
            start, depth, at, consumed = _NOWHERE, 0, begins, begins
            continue
        at += 1
    if final and not closed and start >= 0:
        starts[count], ends[count] = start, n
        count += 1
    if final or closed:
        consumed = n
    return (
        starts[:count].copy(),
        ends[:count].copy(),
        separators[:cut].copy(),
        broken[:count].copy(),
        consumed,
    )


@kernel
def _goes_on(data: Any, at: int, first: int, count: int, inside: bool) -> bool:
    """Whether elements follow: anything at all, or, in an object, what begins like the first."""
    if not inside or count == 0:
        return _next(data, at) < len(data)
    size = min(_ALIKE, at - first)
    for begin in range(at, len(data) - size):
        alike = True
        for k in range(size):
            alike = alike and data[begin + k] == data[first + k]
        if alike:
            return True
    return False


@kernel
def _string_end(data: Any, at: int) -> int:
    """Where a string ends, or a line in it does, which no string may have."""
    while at < len(data) and data[at] != QUOTE and data[at] != LINE:
        at += 2 if data[at] == BACKSLASH else 1
    return at


@kernel
def _is_space(byte: int) -> bool:
    return byte == 32 or byte == 9 or byte == LINE or byte == 13


@kernel
def _next(data: Any, at: int) -> int:
    """Where the next byte is that is no space."""
    while at < len(data) and _is_space(data[at]):
        at += 1
    return at


@kernel
def _next_boundary(data: Any, start: int, failure: int) -> Any:
    """Where the element that broke ends, and where the next one begins: at the last comma before a
    brace until it failed, else at the first after that. (−1, −1) if there is none."""
    ended = begins = _NOWHERE
    for comma in range(start + 1, len(data)):
        if data[comma] != COMMA:
            continue
        brace = _next(data, comma + 1)
        if brace == len(data) or data[brace] != OPEN:
            continue
        if comma > failure and ended != _NOWHERE:
            break
        ended, begins = comma, brace
        if comma > failure:
            break
    return ended, begins
