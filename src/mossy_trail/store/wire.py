"""Rows as PostgreSQL copies them, in its binary format: what a row does not have is null."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

import numpy as np
from numpy.typing import NDArray
from psycopg import sql

from mossy_trail.core.kernel import brief_kernel, read_only
from mossy_trail.core.model.log import DTYPES, NONE, Column
from mossy_trail.store.models import Row

_POSTGRES_EPOCH = 946_684_800_000_000
"""Microseconds from 1970 to 2000, where PostgreSQL counts from."""
_SIGNATURE = b"PGCOPY\n\xff\r\n\0" + bytes(8)
_TRAILER = b"\xff\xff"
_CHUNK = 5_000
"""Rows that are written at once; so few stay in a processor's cache."""
_WIRE = {"log_id": ">i4"} | {
    name: {"int64": ">i8", "int32": ">i4", "int8": ">i2", "uint8": ">i2"}[dtype]
    for name, dtype in DTYPES.items()
}
_COLUMNS = list(Row.__table__.columns)
_RECORD = np.dtype(
    [("fields", ">i2")]
    + [item for c in _COLUMNS for item in (("size_" + c.name, ">i4"), (c.name, _WIRE[c.name]))]
)
_ALL_SET = 0xFFFF
_SIZE = 2
"""Words of 16 bits before each value that tell how many bytes it has: all bits set for null."""

READ = sql.SQL(", ").join(
    sql.SQL("coalesce({}, '-1')" if column.nullable else "{}").format(sql.Identifier(column.name))
    for column in _COLUMNS
)
"""What is to be selected for `read`."""


def written(columns: Mapping[str, Column], log_id: int) -> Iterator[bytes]:
    """What is to be copied into a table of rows, piece by piece."""
    yield _SIGNATURE
    for start in range(0, len(columns["time"]), _CHUNK):
        own = {name: column[start : start + _CHUNK] for name, column in columns.items()}
        own["time"] = own["time"] - _POSTGRES_EPOCH
        own["log_id"] = np.full(len(own["time"]), log_id, "int32")
        yield _rows([own[column.name] for column in _COLUMNS])
    yield _TRAILER


def _rows(columns: Sequence[Column]) -> bytes:
    """Rows one after the other: how many values each has, and the values."""
    told = [
        (read_only(own), _RECORD[column.name].itemsize // 2, bool(column.nullable))
        for own, column in zip(columns, _COLUMNS, strict=True)
    ]
    words = np.full(len(columns[0]), 1 + _SIZE * len(columns))
    for column in told:
        _widen(words, *column)
    ends = np.cumsum(words)
    found, at = np.empty(ends[-1], "uint16"), ends - words
    found[at] = _big_endian(len(columns))
    at += 1
    for column in told:
        _put(found, at, *column)
    return found.tobytes()


def read(data: bytes) -> dict[str, Column]:
    """The columns of a log from what was copied of `READ`."""
    records = np.frombuffer(data[len(_SIGNATURE) : -len(_TRAILER)], _RECORD)
    columns = {name: records[name].astype(dtype) for name, dtype in DTYPES.items()}
    columns["time"] += _POSTGRES_EPOCH
    return columns


@brief_kernel
def _widen(words: NDArray[np.int64], column: Column, size: int, nullable: bool) -> None:
    """Make room in each row for a value."""
    for row in range(len(column)):
        if not nullable or column[row] != NONE:
            words[row] += size


@brief_kernel
def _put(
    found: NDArray[np.uint16], at: NDArray[np.int64], column: Column, size: int, nullable: bool
) -> None:
    """Write a value of each row where the row has come to: before it its size in bytes, or all
    bits set where it is null."""
    for row in range(len(column)):
        place, value = at[row], np.int64(column[row])
        if nullable and value == NONE:
            found[place] = found[place + 1] = _ALL_SET
            at[row] += _SIZE
            continue
        found[place], found[place + 1] = 0, _big_endian(2 * size)
        for word in range(size):
            found[place + _SIZE + word] = _big_endian(value >> 16 * (size - 1 - word))
        at[row] += _SIZE + size


@brief_kernel
def _big_endian(word: np.int64 | int) -> np.int64 | int:
    return (word & 0xFF) << 8 | (word >> 8) & 0xFF
