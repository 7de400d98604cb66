"""Cutting the bytes of a file into records, each with the line it begins on."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from mossy_trail.intake.errors import UnusableFile
from mossy_trail.intake.source import Source

LONGEST_ROW = 65_536
"""Bytes in a row; a longer one is set aside."""
LONGEST_LINE = 16 << 20
"""Bytes without any end of line; a file with more is no log of lines."""
BLOCK = 16 << 20
PIECE = 512 << 10
"""Bytes that are kept in one piece: small, as a piece is unpacked to show one of its rows."""
MOST_COLUMNS = 2000


class TooManyColumns(ValueError):
    """There are more columns than any log has; says how many were met."""


GOOD, WRONG_COLUMNS, BAD_QUOTES, TOO_LONG, NOT_UTF8, BAD_JSON, TOO_DEEP = range(7)
FLAWS = {
    WRONG_COLUMNS: "wrong number of columns",
    BAD_QUOTES: "quotes that do not close",
    TOO_LONG: f"longer than {LONGEST_ROW:,} bytes",
    NOT_UTF8: "not valid UTF-8",
    BAD_JSON: "not a JSON object",
    TOO_DEEP: "nested too deeply",
}


class Block(Protocol):
    """Some rows of a file in order, those with a flaw among them."""

    @property
    def lines(self) -> NDArray[np.int64]: ...

    @property
    def flaws(self) -> NDArray[np.uint8]: ...

    def __len__(self) -> int: ...

    def text(self, record: int) -> bytes:
        """A row as it came."""
        ...

    def pieces(self) -> Iterator[tuple[int, bytes]]:
        """The bytes to keep, in pieces that begin with a row: first line and bytes of each."""
        ...


@dataclass(frozen=True, eq=False)
class Records:
    """Records cut from a block: offsets of their bytes, line numbers from 1, and flaws."""

    data: bytes
    starts: NDArray[np.int64]
    ends: NDArray[np.int64]
    lines: NDArray[np.int64]
    flaws: NDArray[np.uint8]
    consumed: int
    """Bytes cut so far; what follows is an unfinished record."""
    line_ends: int
    """Lines that ended within the consumed bytes."""

    def __len__(self) -> int:
        return len(self.starts)

    def text(self, record: int) -> bytes:
        return self.data[self.starts[record] : self.ends[record]]

    def pieces(self) -> Iterator[tuple[int, bytes]]:
        marks = np.arange(0, self.consumed, PIECE)
        begins = np.unique(np.searchsorted(self.starts, marks)).tolist()
        for first, last in zip(begins, [*begins[1:], len(self)], strict=True):
            if first < last:
                end = int(self.starts[last]) if last < len(self) else self.consumed
                yield int(self.lines[first]), self.data[int(self.starts[first]) : end]

    def good_bytes(self) -> bytes | memoryview:
        """The good records one after the other, each with its line end."""
        good = self.flaws == GOOD
        if good.all() and len(self) and self.starts[0] == 0:
            return memoryview(self.data)[: self.consumed]
        edges = np.flatnonzero(np.diff(np.concatenate(([0], good.view("i1"), [0]))))
        runs = edges.reshape(-1, 2)
        pieces = (self.data[self.starts[a] : self.ends[b - 1]] + b"\n" for a, b in runs)
        return b"".join(pieces)

    def flag_bad_utf8(self) -> None:
        """Flag each good record whose bytes are not UTF-8."""
        view, at = memoryview(self.data), 0
        while at < self.consumed:
            try:
                str(view[at : self.consumed], "utf-8")
                return
            except UnicodeDecodeError as error:
                record = int(np.searchsorted(self.starts, at + error.start, side="right")) - 1
                if record >= 0 and self.flaws[record] == GOOD:
                    self.flaws[record] = NOT_UTF8
                after = int(self.ends[record]) if record >= 0 else at
                at = max(after, at + error.start + 1)


def line_ends(data: bytes, final: bool) -> NDArray[np.int64]:
    """Where lines end; the last of a file may do so without a sign."""
    ends = np.flatnonzero(np.frombuffer(data, "uint8") == ord("\n"))
    return np.append(ends, len(data)) if final and not data.endswith(b"\n") else ends


Cut = Callable[[bytes, int, bool], Records]
"""(data, number of its first line, whether the file ends here) → its records."""


def blocks(source: Source, cut: Cut) -> Iterator[Records]:
    """Read the source on and yield its records block by block."""
    rest, following = b"", source.read(BLOCK)
    while following or rest:
        data, following = rest + following, source.read(BLOCK)
        records = cut(data, source.line, not following)
        source.line += records.line_ends
        rest = data[records.consumed :]
        if len(rest) > LONGEST_LINE:
            raise UnusableFile(
                source.name,
                f"Line {source.line:,} goes on for more than {LONGEST_LINE >> 20} MB.",
                "A log has one row a line. Check that the file is what its name says.",
            )
        if records.consumed:
            yield records
        if not following:
            return
