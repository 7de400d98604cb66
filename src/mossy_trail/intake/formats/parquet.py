"""Apache Parquet."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from functools import cached_property
from typing import Any

import numpy as np
import polars as pl
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as parquet
from numpy.typing import NDArray

from mossy_trail.intake.coding import by_text, coded, is_coded, texts
from mossy_trail.intake.errors import UnusableFile
from mossy_trail.intake.formats.csv import distinct_names
from mossy_trail.intake.records import GOOD, LONGEST_ROW, TOO_LONG, Block
from mossy_trail.intake.source import Source

BATCH = 200_000
_LINE = "\0line"
_FLAW = "\0flaw"
"""Columns beside the file's own, in kept bytes: the number of each row, and what is wrong with
it, if it could not even be told apart into columns."""


class Parquet:
    """Rows are counted from 1, and kept in Parquet files of a batch each."""

    def description(self) -> dict[str, Any]:
        return {"kept": "parquet"}

    def batches(self, source: Source) -> Iterator[tuple[Block, pa.Table]]:
        try:
            file = parquet.ParquetFile(source.path)
            if coded := _coded(file):
                file = parquet.ParquetFile(source.path, read_dictionary=coded)
            begun, rows = source.line, max(file.metadata.num_rows, 1)
            for table in _tables(file):
                table = _readable(table).rename_columns(distinct_names(table.column_names))
                block = TableBlock(table, np.arange(len(table)) + source.line)
                source.line += len(table)
                source.pass_by((source.line - begun) / rows)
                yield block, block.good_texts()
        except (pa.ArrowException, pl.exceptions.PolarsError, OSError, UnicodeError) as error:
            said = str(error).partition("\n")[0][:120].rstrip(". ")
            raise UnusableFile(
                source.name,
                f"Its Parquet data cannot be read: {said}.",
                "The file is cut short or damaged; fetch or write it again.",
            ) from None


def _tables(file: parquet.ParquetFile) -> Iterator[pa.Table]:
    """The rows, at most `BATCH` at a time: small groups of them together, large ones cut."""
    for groups in _groups_together(file.metadata):
        if len(groups) > 1:
            yield file.read_row_groups(groups)
        else:
            for batch in file.iter_batches(BATCH, row_groups=groups):
                yield pa.table(batch.columns, names=batch.schema.names)


def _groups_together(file: parquet.FileMetaData) -> Iterator[list[int]]:
    groups: list[int] = []
    rows = 0
    for group in range(file.num_row_groups):
        more = file.row_group(group).num_rows
        if groups and rows + more > BATCH:
            yield groups
            groups, rows = [], 0
        groups.append(group)
        rows += more
    if groups:
        yield groups


def _readable(table: pa.Table) -> pa.Table:
    """The table; of text that is not UTF-8, which the format's writers do not all look at, as much
    as can be read."""
    for place, field in enumerate(table.schema):
        column = table.column(place)
        if not (_is_text(field.type) or is_coded(field.type)):
            continue
        try:
            for each in column.chunks:
                (each.dictionary if is_coded(field.type) else each).validate(full=True)
        except pa.ArrowInvalid:
            own = _as_text(texts(column).cast(pa.binary()))
            table = table.set_column(place, field.name, own)
    return table


class TableBlock:
    """Rows of a table, with their numbers. As a row has no bytes of its own, its text is JSON.

    `broken` are the flaws that rows came with, which the table has nothing of.
    """

    def __init__(
        self, table: pa.Table, lines: NDArray[np.int64], broken: NDArray[np.uint8] | None = None
    ) -> None:
        self.table, self.lines = table, lines
        self._texts = _as_texts(table)
        self.flaws = _too_long(self._texts)
        if broken is not None:
            self.flaws = np.where(broken != GOOD, broken, self.flaws)

    @classmethod
    def of_good(cls, table: pa.Table, block: Block) -> TableBlock:
        """The rows of a block, of which the table has the good ones."""
        good = block.flaws == GOOD
        row = pa.array(np.cumsum(good) - 1, mask=~good)
        return cls(table.take(row), block.lines, block.flaws)

    def __len__(self) -> int:
        return self.table.num_rows

    def good_texts(self) -> pa.Table:
        """The good rows, every column as text or as moments."""
        good = self.flaws == GOOD
        return self._texts if good.all() else self._texts.filter(pa.array(good))

    def text(self, row: int) -> bytes:
        return self._json[row]

    @cached_property
    def _json(self) -> list[bytes]:
        return _as_lines(self.table).splitlines()

    def pieces(self) -> Iterator[tuple[int, bytes]]:
        if len(self):
            yield int(self.lines[0]), _packed(self.table, self.lines, self.flaws)


def _too_long(table: pa.Table) -> NDArray[np.uint8]:
    """Flags the rows whose texts are longer than a row may be; shape (rows,)."""
    flaws = np.full(table.num_rows, GOOD, "uint8")
    written = [column for column in table.columns if not pa.types.is_timestamp(column.type)]
    if sum(map(_longest, written)) <= LONGEST_ROW:
        return flaws
    lengths = np.zeros(table.num_rows, "int64")
    for column in written:
        lengths += pc.fill_null(by_text(column, pc.binary_length), 0).to_numpy()
    flaws[lengths > LONGEST_ROW] = TOO_LONG
    return flaws


def _longest(column: pa.ChunkedArray) -> int:
    """How long a text of the column is at the most."""
    chunks = [each.dictionary for each in column.chunks] if is_coded(column.type) else column.chunks
    return max((pc.max(pc.binary_length(each)).as_py() or 0 for each in chunks), default=0)


def _coded(file: parquet.ParquetFile) -> list[str]:
    """Columns of text that the file itself has as places in a dictionary."""
    if not file.metadata.num_row_groups or any(map(pa.types.is_nested, file.schema_arrow.types)):
        return []
    group = file.metadata.row_group(0)
    return [
        field.name
        for place, field in enumerate(file.schema_arrow)
        if _is_text(field.type) and not _DICTIONARY.isdisjoint(group.column(place).encodings)
    ]


_DICTIONARY = {"PLAIN_DICTIONARY", "RLE_DICTIONARY"}


def _is_text(kind: pa.DataType) -> bool:
    return bool(pa.types.is_string(kind) or pa.types.is_large_string(kind))


def _packed(table: pa.Table, lines: NDArray[np.int64], flaws: NDArray[np.uint8]) -> bytes:
    table = table.append_column(_LINE, pa.array(lines)).append_column(_FLAW, pa.array(flaws))
    sink = pa.BufferOutputStream()
    parquet.write_table(table, sink, compression="zstd")
    return bytes(sink.getvalue())


def kept_block(data: bytes) -> TableBlock:
    """The rows of a piece that was kept."""
    table = parquet.read_table(pa.BufferReader(data))
    own = [name for name in (_LINE, _FLAW) if name in table.column_names]
    lines, *flaws = (table[name].to_numpy() for name in own)  # older pieces tell no flaws
    return TableBlock(table.drop_columns(own), lines.astype("int64"), *flaws)


def without(data: bytes, lines: Sequence[int]) -> bytes:
    """A piece that was kept, without the rows of these numbers."""
    block = kept_block(data)
    left = ~np.isin(block.lines, lines)
    return _packed(block.table.filter(pa.array(left)), block.lines[left], block.flaws[left])


def _as_lines(table: pa.Table) -> bytes:
    """The rows as JSON Lines; moments in UTC."""
    for place, field in enumerate(table.schema):
        kind = field.type
        if (pa.types.is_nested(kind) and not _is_plain(kind)) or _is_odd(kind):
            table = table.set_column(place, field.name, _as_text(table.column(place)))
    frame = pl.DataFrame(table)
    moments = [name for name, kind in frame.schema.items() if isinstance(kind, pl.Datetime)]
    texts = [
        (pl.col(n).dt.convert_time_zone("UTC") if _zoned(frame, n) else pl.col(n))
        .dt.strftime("%Y-%m-%dT%H:%M:%S%.6f" + ("Z" if _zoned(frame, n) else ""))
        .alias(n)
        for n in moments
    ]
    return frame.with_columns(texts).write_ndjson().encode()


def _is_odd(kind: pa.DataType) -> bool:
    """Whether JSON has no such values, so that they stand in it as text."""
    bytes_of = (pa.types.is_binary, pa.types.is_large_binary, pa.types.is_duration)
    return any(fits(kind) for fits in bytes_of)


def _zoned(frame: pl.DataFrame, name: str) -> bool:
    kind = frame.schema[name]
    return isinstance(kind, pl.Datetime) and kind.time_zone is not None


def _as_texts(table: pa.Table) -> pa.Table:
    """Every column as text, but moments, which are in microseconds; nested values as JSON."""
    for place, field in enumerate(table.schema):
        if pa.types.is_timestamp(field.type):
            moments = pa.timestamp("us", field.type.tz)
            table = table.set_column(
                place, field.name, table.column(place).cast(moments, safe=False)
            )
        elif not (pa.types.is_string(field.type) or is_coded(field.type)):
            table = table.set_column(place, field.name, _as_text(table.column(place)))
    return table


def _as_text(values: pa.ChunkedArray) -> pa.ChunkedArray:
    kind = values.type
    if pa.types.is_dictionary(kind) and _is_text(kind.value_type):
        return coded(values)
    if pa.types.is_dictionary(kind):
        return _as_text(values.cast(kind.value_type))
    if pa.types.is_nested(kind) and not _is_plain(kind):
        objects = [None if v is None else json.dumps(v, default=_told) for v in _objects(values)]
        return pa.chunked_array([pa.array(objects, pa.string())])
    if pa.types.is_nested(kind):
        written = pl.DataFrame({"": pl.Series(values)}).write_ndjson().splitlines()
        texts = [line[len('{"":') : -1] for line in written]
        return pa.chunked_array([[None if text == "null" else text for text in texts]])
    if pa.types.is_binary(kind) or pa.types.is_large_binary(kind):
        told = [None if value is None else _told(value) for value in values.to_pylist()]
        return pa.chunked_array([pa.array(told, pa.string())])
    few = values.slice(0, 10_000)
    if pc.count_distinct(few).as_py() * 4 > len(few):
        return values.cast(pa.string())
    return coded(values.dictionary_encode())


def _is_plain(kind: pa.DataType) -> bool:
    """Whether JSON has values of this type, all the way down."""
    if pa.types.is_struct(kind):
        return all(_is_plain(field.type) for field in kind)
    if pa.types.is_list(kind) or pa.types.is_large_list(kind):
        return _is_plain(kind.value_type)
    plain = (pa.types.is_string, pa.types.is_large_string, pa.types.is_integer, pa.types.is_boolean)
    return pa.types.is_floating(kind) or any(fits(kind) for fits in plain)


def _objects(values: pa.ChunkedArray) -> list[Any]:
    """Values as Python has them; moments in microseconds, as it has none that are finer."""
    try:
        found: list[Any] = values.cast(_coarse(values.type), safe=False).to_pylist()
    except (ValueError, OverflowError, pa.ArrowException):
        found = [None] * len(values)
    return found


def _coarse(kind: pa.DataType) -> pa.DataType:
    if pa.types.is_struct(kind):
        return pa.struct([(field.name, _coarse(field.type)) for field in kind])
    if pa.types.is_list(kind):
        return pa.list_(_coarse(kind.value_type))
    if pa.types.is_timestamp(kind):
        return pa.timestamp("us", kind.tz)
    if pa.types.is_time64(kind):
        return pa.time64("us")
    return pa.duration("us") if pa.types.is_duration(kind) else kind


def _told(value: Any) -> str:
    return value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value)
