"""Rows as PostgreSQL copies them, in its binary format: what a row does not have is null."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

import numpy as np
from numpy.typing import NDArray
from psycopg import sql

from mossy_trail.core.kernel import kernel
from mossy_trail.core.model.log import DTYPES, Column
from mossy_trail.store.models import Row

_POSTGRES_EPOCH = 946_684_800_000_000
"""Microseconds from 1970 to 2000, where PostgreSQL counts from."""
_SIGNATURE = b"PGCOPY\n\xff\r\n\0" + bytes(8)
_TRAILER = b"\xff\xff"
_CHUNK = 2_000
"""Rows that are written at once; so few stay in a processor's cache."""
_SIZE = 4
"""Bytes before each value that tell how many bytes it has: all bits set for null."""
_WIRE = {"log_id": ">i4"} | {
    name: {"int64": ">i8", "int32": ">i4", "int8": ">i2", "uint8": ">i2"}[dtype]
    for name, dtype in DTYPES.items()
}
_COLUMNS = list(Row.__table__.columns)
_RECORD = np.dtype(
    [("fields", ">i2")]
    + [item for c in _COLUMNS for item in (("size_" + c.name, ">i4"), (c.name, _WIRE[c.name]))]
)
_WIDTHS = np.array([_RECORD[column.name].itemsize for column in _COLUMNS])
_NULLABLE = np.array([column.nullable for column in _COLUMNS])

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
        yield _without_absent(_records(own, log_id), _WIDTHS, _NULLABLE).tobytes()
    yield _TRAILER


def read(data: bytes) -> dict[str, Column]:
    """The columns of a log from what was copied of `READ`."""
    records = np.frombuffer(data[len(_SIGNATURE) : -len(_TRAILER)], _RECORD)
    columns = {name: records[name].astype(dtype) for name, dtype in DTYPES.items()}
    columns["time"] += _POSTGRES_EPOCH
    return columns


def _records(columns: Mapping[str, Column], log_id: int) -> NDArray[np.uint8]:
    """Rows as bytes, all of one width; shape (rows, bytes)."""
    records = np.empty(len(columns["time"]), _RECORD)
    records["fields"] = len(_COLUMNS)
    for column, width in zip(_COLUMNS, _WIDTHS, strict=True):
        records["size_" + column.name] = width
        records[column.name] = columns[column.name] if column.name != "log_id" else log_id
    records["time"] = columns["time"] - _POSTGRES_EPOCH
    return records.view(np.uint8).reshape(len(records), _RECORD.itemsize)


@kernel
def _without_absent(
    records: NDArray[np.uint8], widths: NDArray[np.int64], nullable: NDArray[np.bool_]
) -> NDArray[np.uint8]:
    """The rows one after the other, without the bytes of values that are −1 and may be null."""
    found, end = np.empty(records.size, np.uint8), 0
    for row in range(len(records)):
        found[end], found[end + 1] = records[row, 0], records[row, 1]
        end, at = end + 2, 2
        for field in range(len(widths)):
            begin, after = at + _SIZE, at + _SIZE + widths[field]
            absent = nullable[field]
            for i in range(begin, after):
                absent = absent and records[row, i] == 0xFF
            for i in range(at, begin if absent else after):
                found[end] = 0xFF if absent else records[row, i]
                end += 1
            at = after
    return found[:end]
