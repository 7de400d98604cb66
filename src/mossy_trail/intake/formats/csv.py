"""CSV (RFC 4180): a first line of names, then one record a row."""

from __future__ import annotations

import csv
from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as arrow_csv
from numba import njit

from mossy_trail.core.ahead import ahead
from mossy_trail.intake import records as rec
from mossy_trail.intake.records import LONGEST_ROW, Cut, Records, blocks, line_ends
from mossy_trail.intake.source import Source

DELIMITERS = ",;\t|"


class Csv:
    """How one CSV file is cut and parsed."""

    def __init__(self, delimiter: str, names: list[str]) -> None:
        self.delimiter, self.names = delimiter, names

    @classmethod
    def from_header(cls, header: str) -> Csv:
        """Tell the delimiter and the columns from a file's first line."""
        delimiter = max(DELIMITERS, key=header.count)
        cells = next(csv.reader([header], delimiter=delimiter))
        return cls(delimiter, distinct_names([cell.strip() for cell in cells]))

    def description(self) -> dict[str, Any]:
        return {"delimiter": self.delimiter, "columns": self.names}

    def batches(self, source: Source) -> Iterator[tuple[Records, pa.Table]]:
        for records in ahead(blocks(source, self.cutter())):
            yield records, self.parse(records)

    def cutter(self) -> Cut:
        fields, delimiter = len(self.names), ord(self.delimiter)

        def cut(data: bytes, line: int, final: bool) -> Records:
            records = _one_a_line(data, delimiter, line, final)
            if records is None:
                scanned = _scan(np.frombuffer(data, "uint8"), delimiter, fields, line, final)
                records = Records(data, *scanned)
            return records

        return cut

    def parse(self, records: Records) -> pa.Table:
        """The good records as columns of text; flags those that are not UTF-8, and those of another
        number of columns."""
        records.flag_bad_utf8()
        table = self._parse(records)
        marked = b"'" in records.data and any(mark in records.data for mark in _MARKED)
        return _unmarked(table) if marked else table

    def _parse(self, records: Records) -> pa.Table:
        data = records.good_bytes()
        if not data:
            return pa.table({name: pa.array([], pa.string()) for name in self.names})
        uneven: list[int] = []

        def leave_out(row: Any) -> str:
            uneven.append(row.number - 1)
            return "skip"

        table = arrow_csv.read_csv(
            pa.py_buffer(data),
            read_options=arrow_csv.ReadOptions(
                column_names=self.names,
                block_size=max(len(data), 1 << 16),
                use_threads=False,  # only then are rows numbered that are left out
            ),
            parse_options=arrow_csv.ParseOptions(
                delimiter=self.delimiter, newlines_in_values=True, invalid_row_handler=leave_out
            ),
            convert_options=arrow_csv.ConvertOptions(
                check_utf8=False,
                column_types=dict.fromkeys(self.names, pa.string()),
                null_values=[""],
                strings_can_be_null=True,
            ),
        )
        records.flaws[np.flatnonzero(records.flaws == rec.GOOD)[uneven]] = rec.WRONG_COLUMNS
        return table


_MARKED = tuple(b"'" + start for start in (b"=", b"+", b"-", b"@", b"\t", b"\r"))


def _unmarked(table: pa.Table) -> pa.Table:
    """A quote that keeps a spreadsheet from taking a text for a formula is no part of it."""
    return pa.table(
        {
            name: pc.replace_substring_regex(table[name], r"^'('*[=+\-@\t\r])", r"\1")
            for name in table.column_names
        }
    )


def distinct_names(names: Sequence[str]) -> list[str]:
    """Names of columns, those without one and those that came before by their number."""
    seen: dict[str, int] = {}
    result = []
    for position, name in enumerate(names, 1):
        name = name or f"column {position}"
        seen[name] = seen.get(name, 0) + 1
        result.append(name if seen[name] == 1 else f"{name} ({seen[name]})")
    return result


_QUOTE, _NEWLINE, _RETURN = 34, 10, 13


def _one_a_line(data: bytes, delimiter: int, line: int, final: bool) -> Records | None:
    """Records by line ends alone, which is much faster than by every byte; None where a quote goes
    on over one, or where something is wrong but the number of columns."""
    buffer = np.frombuffer(data, "uint8")
    ends = line_ends(data, final)
    if not len(ends):
        return None
    consumed = min(int(ends[-1]) + 1, len(data))
    starts = np.concatenate(([0], ends[:-1] + 1))
    if b"\r" in data:
        returns = data.count(b"\r", 0, consumed)
        returned = (ends > starts) & (buffer[ends - 1] == _RETURN)
        ends = ends - returned
        if returned.sum() != returns:
            return None
    if max(int((ends - starts).max()), len(data) - consumed) > LONGEST_ROW:
        return None
    quotes = np.flatnonzero(buffer[:consumed] == _QUOTE)
    if not _closed(buffer, quotes, ends, delimiter):
        return None
    lines, full = line + np.arange(len(ends)), ends > starts
    flaws = np.full(int(full.sum()), rec.GOOD, "uint8")
    return Records(data, starts[full], ends[full], lines[full], flaws, consumed, len(ends))


@njit(cache=True, nogil=True)
def _closed(data: Any, quotes: Any, ends: Any, delimiter: int) -> bool:
    """Whether each field that begins with a quote ends with one, on the same line."""
    k, line = 0, 0
    while k < len(quotes):
        at = quotes[k]
        k += 1
        if at > 0 and data[at - 1] != delimiter and data[at - 1] != _NEWLINE:
            continue
        while ends[line] < at:
            line += 1
        while k + 1 < len(quotes) and quotes[k + 1] == quotes[k] + 1:
            k += 2
        if k == len(quotes) or quotes[k] > ends[line]:
            return False
        after = quotes[k] + 1
        if after < ends[line] and data[after] != delimiter:
            return False
        k += 1
    return True


@njit(cache=True, nogil=True)
def _scan(data: Any, delimiter: int, expected: int, line: int, final: bool) -> Any:
    """Cut records by the grammar of quotes; of one line the columns are not counted.

    A record over several lines counts only when it is sound; else its first line alone is
    flawed, and the cutting goes on at the next line, so that a stray quote costs no other row.
    """
    n = len(data)
    room = 16 + n // 2
    starts, ends = np.empty(room, np.int64), np.empty(room, np.int64)
    lines, flaws = np.empty(room, np.int64), np.empty(room, np.uint8)
    count, start, first_line = 0, 0, line
    while start < n:
        end, after, fields, flaw, inner = _record(data, start, delimiter)
        if flaw == rec.GOOD and end - start > LONGEST_ROW:
            flaw = rec.TOO_LONG
        if flaw == rec.GOOD and inner > 0 and fields != expected:
            flaw = rec.WRONG_COLUMNS
        unfinished = after > n
        if unfinished and not final and n - start <= LONGEST_ROW:
            break
        if flaw != rec.GOOD and inner > 0:
            end, after = _line(data, start)
            unfinished, inner = after > n, 0
        if unfinished and not final:
            break
        if end > start:
            starts[count], ends[count], lines[count], flaws[count] = start, end, line, flaw
            count += 1
        line += inner + 1
        start = min(after, n)
    return (
        starts[:count].copy(),
        ends[:count].copy(),
        lines[:count].copy(),
        flaws[:count].copy(),
        start,
        line - first_line,
    )


@njit(cache=True, nogil=True)
def _line(data: Any, at: int) -> Any:
    """The end of the line that begins here, and where the next begins (past the data: none)."""
    n = len(data)
    while at < n and data[at] != _NEWLINE and data[at] != _RETURN:
        at += 1
    if at < n and data[at] == _RETURN and (at + 1 == n or data[at + 1] == _NEWLINE):
        return at, at + 2  # the other half of the line end may come with the next block
    return at, at + 1


@njit(cache=True, nogil=True)
def _record(data: Any, start: int, delimiter: int) -> Any:
    """End, start of the next, fields, flaw and inner line ends of the record that begins here."""
    n, at, fields, inner = len(data), start, 1, 0
    field_start = True
    while at < n:
        byte = data[at]
        if byte == _QUOTE and field_start:
            at += 1
            while at < n:
                if data[at] == _QUOTE:
                    if at + 1 < n and data[at + 1] == _QUOTE:
                        at += 1
                    else:
                        break
                elif data[at] == _NEWLINE:
                    inner += 1
                    if at - start > LONGEST_ROW:
                        return at, at + 1, fields, rec.BAD_QUOTES, inner
                at += 1
            at += 1
            if at > n:
                return n, n + 1, fields, rec.BAD_QUOTES, inner
            if at < n and data[at] not in (delimiter, _NEWLINE, _RETURN):
                end, after = _line(data, at)
                return end, after, fields, rec.BAD_QUOTES, inner
            field_start = False
        elif byte == delimiter:
            fields += 1
            at += 1
            field_start = True
        elif byte == _NEWLINE or byte == _RETURN:
            end, after = _line(data, at)
            return end, after, fields, rec.GOOD, inner
        else:
            at += 1
            field_start = False
    return n, n + 1, fields, rec.GOOD, inner
