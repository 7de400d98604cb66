"""From columns of text to the columns of a log, with what had to be set aside."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from mossy_trail.core.model.log import DTYPES, NONE, Column, Log, empty_log
from mossy_trail.intake.coding import Coder, Distinct, distinct_of, of_rows
from mossy_trail.intake.pile import Pile
from mossy_trail.intake.records import FLAWS, GOOD, Block
from mossy_trail.intake.times import BAD, Times
from mossy_trail.intake.words import LEFT_OUT

FIELDS = (
    "time",
    "user",
    "account",
    "session",
    "order",
    "event",
    "screen",
    "from",
    "tab",
    "uri",
    "source",
    "outcome",
    "params",
    "count",
    "via",
)
TEXT_KEPT = 2_000
"""Bytes of a row set aside that are kept for reading; the whole row stays in the stored file."""

BAD_TIME, NO_USER, NO_EVENT = "time cannot be read", "no user", "neither event nor screen"
NOT_WANTED = "left out by the mapping"
REASONS = ("", BAD_TIME, NO_USER, NO_EVENT, NOT_WANTED)


@dataclass(frozen=True)
class SetAside:
    """A row that could not be used."""

    file: int
    line: int
    reason: str
    text: str


@dataclass(frozen=True)
class Told:
    """What the good records of a block tell, before their texts have codes."""

    records: NDArray[np.int64]
    """Which of the block's they are."""
    reasons: NDArray[np.uint8]
    """Per good record the place in `REASONS` of why it cannot be used; 0 if it can."""
    time: NDArray[np.int64]
    """Of those that can be used, as `distinct` is."""
    distinct: dict[str, Distinct]


def told(block: Block, table: pa.Table, times: Times) -> Told:
    """Read a block, of which the table has the good records. Changes nothing."""
    good = np.flatnonzero(block.flaws == GOOD)
    if not len(good):
        return Told(good, np.empty(0, "uint8"), np.empty(0, "int64"), {})
    table = with_all_fields(table)
    time = times.read(table["time"])
    distinct = distinct_of(table.drop_columns("time"))
    reasons = flaws_of(distinct, time)
    usable = reasons == 0
    if not usable.all():
        distinct = {name: of_rows(column, usable) for name, column in distinct.items()}
        time = time[usable]
    return Told(good, reasons, time, distinct)


@dataclass
class RowCollector:
    """Gathers the good rows of all blocks, and each other row with its reason."""

    coder: Coder = field(default_factory=Coder)
    set_aside: list[SetAside] = field(default_factory=list)
    rows: int = 0
    _pieces: Pile = field(default_factory=Pile)

    def add(
        self, file: int, block: Block, told: Told, text_kept: int = TEXT_KEPT
    ) -> dict[str, Column]:
        """Take in one block: its records, flawed ones flagged, and what its good ones tell.

        Of rows set aside so many bytes of text are kept. Returns the columns of a log (see
        `core.log.DTYPES`) for the rows that can be used.
        """
        for record in np.flatnonzero(block.flaws != GOOD):
            self._put_aside(file, block, int(record), FLAWS[int(block.flaws[record])], text_kept)
        bad = told.reasons != 0
        for record, reason in zip(told.records[bad], told.reasons[bad], strict=True):
            self._put_aside(file, block, int(record), REASONS[reason], text_kept)
        self.rows += len(told.time)
        if not len(told.time):
            return dict(empty_log().columns)
        piece = self.coder.columns(told.distinct, [n for n in told.distinct if n not in FIELDS])
        piece["time"], piece["line"] = told.time, block.lines[told.records[~bad]]
        piece["file"] = np.full(len(told.time), file)
        piece = {name: piece[name].astype(dtype, copy=False) for name, dtype in DTYPES.items()}
        self._pieces.add(piece)
        return piece

    def _put_aside(
        self, file: int, records: Block, record: int, reason: str, text_kept: int
    ) -> None:
        text = records.text(record)[:text_kept].decode("utf-8", "backslashreplace")
        self.set_aside.append(
            SetAside(file, int(records.lines[record]), reason, text.replace("\0", "\\0"))
        )

    def log(self, files: Sequence[str]) -> Log:
        """All good rows as one log; `files` are the names that its `file` column shows."""
        if not self.rows:
            return empty_log()
        return Log(self._pieces.taken(), {**self.coder.terms, "file": list(files)})


FLAWED_BY = ("event", "screen", "user")
"""Fields that, but for the time, decide whether a row can be used."""


def flaws_of(distinct: Mapping[str, Distinct], time: NDArray[np.int64]) -> NDArray[np.uint8]:
    """Per row with all fields the place in `REASONS` of why it cannot be used; 0 if it can."""
    (event, words), (screen, _), (user, _) = (distinct[name] for name in FLAWED_BY)
    flaws = np.where((event == NONE) & (screen == NONE), REASONS.index(NO_EVENT), 0)
    flaws[user == NONE] = REASONS.index(NO_USER)
    flaws[time == BAD] = REASONS.index(BAD_TIME)
    left_out = words.index(LEFT_OUT).as_py()
    if left_out != NONE:
        flaws[event == left_out] = REASONS.index(NOT_WANTED)
    return flaws.astype("uint8")


def with_all_fields(table: pa.Table) -> pa.Table:
    """The table with a column of nulls for each field that it lacks."""
    nothing = pa.nulls(table.num_rows, pa.string())
    for name in FIELDS:
        if name not in table.column_names:
            table = table.append_column(name, nothing)
    return table
