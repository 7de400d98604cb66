"""Reading log files: bytes in, a log and an account of every row out."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any, Protocol

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from mossy_trail.core.ahead import ahead
from mossy_trail.core.model.log import Column, Log
from mossy_trail.intake.coding import distinct_of
from mossy_trail.intake.errors import UnusableFile
from mossy_trail.intake.formats.csv import DELIMITERS, Csv
from mossy_trail.intake.formats.json_array import JsonArray, opening_of_rows
from mossy_trail.intake.formats.json_lines import JsonLines, cut_lines, parse_objects
from mossy_trail.intake.formats.parquet import Parquet, TableBlock, kept_block, without
from mossy_trail.intake.formats.xes import Xes
from mossy_trail.intake.mapping import Mapping, apply, column, columns_of, masked, shape_of
from mossy_trail.intake.patterns import find
from mossy_trail.intake.proposal import Proposal, named_as_fields, propose
from mossy_trail.intake.records import (
    LONGEST_ROW,
    MOST_COLUMNS,
    Block,
    Records,
    TooManyColumns,
)
from mossy_trail.intake.rows import (
    FIELDS,
    FLAWED_BY,
    REASONS,
    TEXT_KEPT,
    RowCollector,
    SetAside,
    Told,
    flaws_of,
    told,
    with_all_fields,
)
from mossy_trail.intake.source import Source
from mossy_trail.intake.times import BAD, Times
from mossy_trail.intake.words import meaning, outcome_of

NOT_LOGS = {
    b"\x89PNG": "a PNG picture",
    b"\xff\xd8\xff": "a JPEG picture",
    b"GIF8": "a GIF picture",
    b"RIFF": "a picture, sound or film",
    b"%PDF": "a PDF document",
    b"PK\x03\x04": "a ZIP archive or office document",
    b"SQLite format 3": "an SQLite database",
}
FORMS = "CSV, JSON Lines, a JSON array, Parquet or XES, plain or packed by gzip or zstd"
_NO_TEXT = bytes(set(range(32)) - set(b"\t\n\r\f\x1b"))


class Format(Protocol):
    def description(self) -> dict[str, Any]: ...

    def batches(self, source: Source) -> Batches: ...


Batches = Iterator[tuple[Block, pa.Table]]


class LogFile:
    """A log file as it lies on disk, in any of the formats."""

    def __init__(self, path: Path, name: str = "") -> None:
        self.path, self.name = path, name or path.name
        self.size = path.stat().st_size

    @contextmanager
    def open(self) -> Iterator[Opened]:
        source = Source(self.name, self.path)
        try:
            form = _format(source)
            yield Opened(form.description(), form.batches(source), lambda: source.position)
        finally:
            source.close()


class KeptFile:
    """A file of a log that is in already, by the blocks of its bytes that were kept.

    `file` is what `Reading.files` said of it; `blocks` yields first line and bytes of each.
    """

    def __init__(
        self, file: dict[str, Any], size: int, blocks: Callable[[], Iterator[tuple[int, bytes]]]
    ) -> None:
        self.name, self.size = file["name"], size
        self._file, self._blocks = file, blocks

    @contextmanager
    def open(self) -> Iterator[Opened]:
        done = 0

        def batches() -> Batches:
            nonlocal done
            for first_line, data in self._blocks():
                done += len(data)
                yield _again(self._file, data, first_line)

        yield Opened(_described(self._file), batches(), lambda: done)


_DESCRIPTION = ("delimiter", "columns", "kept", "hashed")


def _described(file: dict[str, Any]) -> dict[str, Any]:
    return {key: file[key] for key in _DESCRIPTION if key in file}


def _again(file: dict[str, Any], data: bytes, first_line: int) -> tuple[Block, pa.Table]:
    """Cut and parse a block of kept bytes."""
    if "kept" in file:
        block = kept_block(data)
        return block, block.good_texts()
    records = _cut_again(file, data, first_line)
    if "columns" in file:
        return records, Csv(file["delimiter"], file["columns"]).parse(records)
    return records, parse_objects(records)


def _cut_again(file: dict[str, Any], data: bytes, first_line: int) -> Records:
    is_csv = "columns" in file
    cut = Csv(file["delimiter"], file["columns"]).cutter() if is_csv else cut_lines
    return cut(data, first_line, True)


class Input(Protocol):
    """Something to read a log from."""

    name: str
    size: int

    def open(self) -> AbstractContextManager[Opened]: ...


@dataclass(frozen=True)
class Opened:
    """A file being read: what its format says of it, its batches, and how far it is in bytes."""

    description: dict[str, Any]
    batches: Batches
    position: Callable[[], int]


@dataclass(frozen=True)
class Progress:
    file: int
    rows: int
    set_aside: int
    bytes_read: int
    bytes_total: int


@dataclass(frozen=True, eq=False)
class Reading:
    """What came of one or more files: the log, and the rows set aside."""

    log: Log
    set_aside: list[SetAside]
    files: list[dict[str, Any]]
    """Per file its `name`, the `mapping` it was read by, the `shape` that this was chosen for,
    of CSV its `delimiter` and `columns`, in what form its bytes are `kept`, if in another, and
    which columns are `hashed` in them."""

    @property
    def rows_read(self) -> int:
        return len(self.log) + len(self.set_aside)


class Watcher:
    """Is told of a reading as it goes on. Any of its methods may raise to stop it."""

    def on_block(self, file: int, block: Block) -> None:
        """A block as it was cut."""

    def on_rows(self, columns: dict[str, Column]) -> None:
        """The columns of the block's rows that can be used."""

    def on_progress(self, progress: Progress) -> None:
        """How far the reading is, after each block."""


MappingOf = Callable[[str], Mapping | None]
"""The mapping for files of a shape; None: as the first rows propose."""


def read_files(
    paths: Sequence[Path], names: Sequence[str] | None = None, mapping: Mapping | None = None
) -> Reading:
    """Read files by one mapping, or each by the one that its rows propose.

    `names` are what the files are called, where that is not their paths' names.
    """
    names = names or [path.name for path in paths]
    inputs = [LogFile(path, name) for path, name in zip(paths, names, strict=True)]
    return read_log(inputs, lambda shape: mapping)


def read_log(
    inputs: Sequence[Input],
    mapping_of: MappingOf,
    watcher: Watcher | None = None,
    key: bytes = b"",
) -> Reading:
    """Read one log, the files of which may each have a format of its own.

    `key` is what columns are hashed with, where a mapping says so. Raises `UnusableFile` for a
    file that is no log, or in which no row could be used.
    """
    collector = RowCollector()
    watcher = watcher or Watcher()
    files: list[dict[str, Any]] = []
    total, done = sum(given.size for given in inputs), 0
    for number, given in enumerate(inputs):
        before = collector.rows
        with given.open() as opened:
            file = {"name": given.name, **opened.description}
            files.append(file)
            for block, kept, rows in ahead(_told(given, opened, file, mapping_of, key)):
                hidden = kept is not block
                added = collector.add(number, block, rows, 0 if hidden else TEXT_KEPT)
                watcher.on_rows(added)
                watcher.on_block(number, kept)
                read, aside = done + opened.position(), len(collector.set_aside)
                watcher.on_progress(Progress(number, collector.rows, aside, read, total))
        if collector.rows == before:
            _refuse_rowless(given.name, number, collector.set_aside)
        done += given.size
    names = [given.name for given in inputs]
    return Reading(collector.log(names), collector.set_aside, files)


def _told(
    given: Input, opened: Opened, file: dict[str, Any], mapping_of: MappingOf, key: bytes
) -> Iterator[tuple[Block, Block, Told]]:
    """Blocks as they were cut, as they may be kept, and what they tell by the file's mapping.

    This is done of one block while the one before it is taken in, and the next one is cut.
    """
    for block, table in ahead(_within_limits(given.name, opened.batches)):
        if table.num_rows and "mapping" not in file:
            file |= _read_by(given, table, mapping_of)
        mapping, kept = Mapping.of(file.get("mapping", {})), block
        if mapping.masks:
            file |= {"kept": "parquet", "hashed": mapping.hashed}
            table = masked(_not_yet(mapping, opened), table, key)
            kept = TableBlock.of_good(table, block)
        mapped = apply(mapping, table) if table.num_rows else table
        yield block, kept, told(block, mapped, mapping.times)


def _within_limits(name: str, batches: Batches) -> Batches:
    """The batches, unless there are more columns than any log has."""
    try:
        for block, table in batches:
            if table.num_columns > MOST_COLUMNS:
                raise TooManyColumns(table.num_columns)
            yield block, table
    except TooManyColumns as error:
        raise UnusableFile(
            name,
            f"It has {error.args[0]:,} columns or more; a log may have {MOST_COLUMNS:,}.",
            "Often ids have become names of columns. Leave out those that no question needs.",
        ) from None


def _read_by(given: Input, table: pa.Table, mapping_of: MappingOf) -> dict[str, Any]:
    shape = shape_of(table.column_names)
    mapping = mapping_of(shape) or _proposed(given, table)
    return {"shape": shape, "mapping": asdict(mapping)}


def _not_yet(mapping: Mapping, opened: Opened) -> Mapping:
    """The mapping without the columns that are hashed already in the bytes that were kept."""
    done = opened.description.get("hashed", [])
    return replace(mapping, hashed=[name for name in mapping.hashed if name not in done])


def _format(source: Source) -> Format:
    """Tell the format from the first bytes; leaves the source at its first record."""
    head = source.head
    for magic, kind in NOT_LOGS.items():
        if head.startswith(magic):
            raise UnusableFile(source.name, f"This is {kind}, not a log.", f"Bring {FORMS}.")
    if head.startswith(b"PAR1"):
        if source.packing:
            raise UnusableFile(
                source.name, "This is a packed Parquet file.", "Parquet packs by itself; unpack it."
            )
        return Parquet()
    start = head.lstrip()
    if not start:
        raise UnusableFile(
            source.name, "The file is empty.", "Export the log again and drop it here."
        )
    if _is_binary(head):
        raise UnusableFile(source.name, "This is a binary file, not a log.", f"Bring {FORMS}.")
    if start.startswith(b"["):
        return JsonArray()
    if start.startswith(b"{"):
        rows = opening_of_rows(source.head)
        if rows is None:
            return JsonLines()
        source.skip(rows)
        return JsonArray(inside=True)
    if start.startswith(b"<"):
        return Xes()
    return _csv(source)


def _is_binary(text: bytes) -> bool:
    """More than one byte in twenty is a control character that no text has."""
    return len(text.translate(None, _NO_TEXT)) < len(text) * 0.95


def _csv(source: Source) -> Csv:
    """CSV by its line of names, which the source is left behind."""
    lines = source.head.splitlines(keepends=True)
    first = _line_of_names(lines)
    header = lines[first]
    if len(header) > LONGEST_ROW - 1:
        raise UnusableFile(
            source.name, "The first line has no end.", "The first line must name the columns."
        )
    try:
        csv = Csv.from_header(header.decode().rstrip("\r\n"))
    except UnicodeDecodeError:
        raise UnusableFile(
            source.name, f"Line {first + 1} is not UTF-8 text.", "Save the file as CSV in UTF-8."
        ) from None
    source.skip(sum(map(len, lines[: first + 1])))
    source.line = first + 2
    return csv


_REMARKS = (b"#", b"//", b"--", b"sep=")


def _line_of_names(lines: Sequence[bytes]) -> int:
    """The first line that is neither empty nor a remark, nor a title with fewer cells than most."""
    own = [
        number
        for number, line in enumerate(lines)
        if line.strip() and not line.lstrip().startswith(_REMARKS)
    ]
    if not own:
        return next(number for number, line in enumerate(lines) if line.strip())
    cells = {number: _cells(lines[number]) for number in own[:30]}
    usual = Counter(cells.values()).most_common(1)[0][0]
    if cells[own[0]] == 1 < usual:
        return next(number for number in own if cells[number] == usual)
    return own[0]


def _cells(line: bytes) -> int:
    return 1 + max(line.count(mark.encode()) for mark in DELIMITERS)


TO_PROPOSE_FROM = 200_000
"""Rows that a proposal is made from, where columns do not have our own names."""


def _gathered(given: Input, most: int = TO_PROPOSE_FROM) -> pa.Table | None:
    """The first rows of a file, of however many blocks; None if none can be read."""
    tables: list[pa.Table] = []
    with given.open() as opened:
        for _, table in _within_limits(given.name, opened.batches):
            if table.num_rows:
                tables.append(table)
            if sum(part.num_rows for part in tables) >= most:
                break
            if named_as_fields(tables[0].column_names):
                break
    if not tables:
        return None
    whole = pa.concat_tables(tables, promote_options="permissive")
    return whole.slice(0, most)


def _proposed(given: Input, table: pa.Table) -> Mapping:
    """The proposed mapping, if rows can be read by it."""
    gathered = None if named_as_fields(table.column_names) else _gathered(given)
    mapping, name = propose(gathered or table).mapping, given.name
    if mapping.missing:
        words = {"screen": "an event or a screen", "time": "a time", "user": "a user"}
        lacking = " or for ".join(words[field] for field in mapping.missing)
        columns = table.column_names
        shown = ", ".join(f"“{column[:40]}”" for column in columns[:12])
        more = f" and {len(columns) - 12} more" if len(columns) > 12 else ""
        raise UnusableFile(
            name,
            f"No column can be taken for {lacking}. Its columns are {shown}{more}.",
            "Say which column is which, or name them as the log's fields are named.",
        )
    return mapping


@dataclass(frozen=True, eq=False)
class Preview:
    """The first rows of a file as they came, and how they will be read."""

    file: str
    shape: str
    columns: list[str]
    raw: list[dict[str, str | None]]
    proposal: Proposal
    mapping: Mapping
    read: list[dict[str, str | None]]
    """Per row its fields; `problem` says why it could not be used."""
    words: list[Word]
    """The words of the event column, and those of outcomes, most used first."""
    table: pa.Table
    """All rows that the proposal was made from."""


@dataclass(frozen=True)
class Word:
    """A word of a file: in how many rows it is, and what it will be taken for."""

    field: str
    word: str
    rows: int
    meaning: str
    """Empty where it means nothing that is known."""


def glance(given: Input) -> tuple[str, bool]:
    """A file's shape, and whether its columns bear our own names."""
    with given.open() as opened:
        for _, table in _within_limits(given.name, opened.batches):
            if table.num_rows:
                return shape_of(table.column_names), named_as_fields(table.column_names)
    raise _no_row(given)


def _no_row(given: Input) -> UnusableFile:
    return UnusableFile(given.name, "No row of it can be read.", "Export the log again.")


@dataclass(frozen=True, eq=False)
class Looked:
    """The rows of a file that a proposal is made from, and the proposal."""

    given: Input
    table: pa.Table
    proposal: Proposal


def look(given: Input) -> Looked:
    """Look at a file, of which it is not known how it is to be read."""
    table = _gathered(given)
    if table is None:
        raise _no_row(given)
    return Looked(given, table, propose(table))


def preview(looked: Looked, mapping: Mapping | None = None, rows: int = 50) -> Preview:
    """The first rows of a file, read by this mapping or by the one that is proposed."""
    given, table, proposal = looked.given, looked.table, looked.proposal
    used = mapping or proposal.mapping
    columns = columns_of(table)
    first = table.slice(0, rows)
    raw = pa.table({column_name: column(first, column_name) for column_name in columns})
    return Preview(
        given.name,
        shape_of(table.column_names),
        columns,
        raw.to_pylist(),
        proposal,
        used,
        _as_read(apply(used, masked(used, first, b"")), used.times),
        _words(used, table),
        table,
    )


def _as_read(table: pa.Table, how: Times) -> list[dict[str, str | None]]:
    table = with_all_fields(table)
    times = how.read(table["time"])
    flaws = flaws_of(distinct_of(table.select(FLAWED_BY)), times)
    rows: list[dict[str, str | None]] = table.select(FIELDS).to_pylist()
    for row, time, flaw in zip(rows, times.tolist(), flaws.tolist(), strict=True):
        row["problem"] = REASONS[flaw] or None
        row["time"] = None if time == BAD else _shown(time)
        row["event"] = row["event"] or ("screen_view" if row["screen"] else None)
    return rows


def _shown(microseconds: int) -> str:
    return str(np.datetime64(microseconds // 1000, "ms")).replace("T", " ")


def _words(mapping: Mapping, table: pa.Table) -> list[Word]:
    found = []
    for name, most in (("event", 300), ("outcome", 50)):
        if columns := mapping.fields.get(name):
            counts = pc.value_counts(column(table, columns[0])).to_pylist()
            counts = sorted((c for c in counts if c["values"]), key=lambda c: -c["counts"])
            found += [
                Word(name, c["values"], c["counts"], _taken_for(mapping, name, c["values"]))
                for c in counts[:most]
            ]
    return found


def _taken_for(mapping: Mapping, name: str, word: str) -> str:
    if name == "outcome":
        return mapping.outcomes.get(word) or outcome_of(word) or ""
    if word in mapping.events:
        return mapping.events[word]
    return "screen_view" if find(mapping.patterns, word) else meaning(word) or ""


def _refuse_rowless(name: str, number: int, set_aside: Sequence[SetAside]) -> None:
    own = [row for row in set_aside if row.file == number]
    if not own:
        raise UnusableFile(
            name, "There is no row under the first line.", "Export the log again, with its rows."
        )
    first = own[0]
    raise UnusableFile(
        name,
        f"None of its {len(own):,} rows can be used; line {first.line:,}: {first.reason}.",
        "Each row needs a time, a user, and an event or a screen.",
    )


def raw_record(file: dict[str, Any], data: bytes, first_line: int, line: int) -> bytes | None:
    """The row that begins on `line` as it came, out of a piece kept of the described file."""
    block: Block = kept_block(data) if "kept" in file else _cut_again(file, data, first_line)
    at = int(np.searchsorted(block.lines, line))
    if at == len(block) or block.lines[at] != line:
        return None
    return block.text(at)


def without_records(
    file: dict[str, Any], data: bytes, first_line: int, lines: Sequence[int]
) -> bytes:
    """A piece kept of the described file without the rows that begin on these lines.

    All other rows keep their lines.
    """
    if "kept" in file:
        return without(data, lines)
    records = _cut_again(file, data, first_line)
    kept, at = [], 0
    for record in np.flatnonzero(np.isin(records.lines, lines)).tolist():
        kept += [data[at : records.starts[record]], b"\n" * records.text(record).count(b"\n")]
        at = int(records.ends[record])
    return b"".join([*kept, data[at:]])
