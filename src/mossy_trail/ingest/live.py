"""Live logs: events are acknowledged when they are kept, and read into rows a moment later."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass, replace
from threading import Event, Thread
from time import sleep
from typing import Any

import numpy as np
import psycopg
import pyarrow as pa
import structlog
from sqlalchemy import Engine, select
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.orm import Session

from mossy_trail.intake.cloud_events import SentEvent
from mossy_trail.intake.coding import Coder, distinct_of
from mossy_trail.intake.formats.json_lines import cut_lines, parse_objects
from mossy_trail.intake.mapping import Mapping, apply, shape_of
from mossy_trail.intake.proposal import propose
from mossy_trail.intake.records import FLAWS, GOOD
from mossy_trail.intake.rows import (
    FLAWED_BY,
    REASONS,
    RowCollector,
    flaws_of,
    told,
    with_all_fields,
)
from mossy_trail.store import live
from mossy_trail.store.models import StoredLog

_note = structlog.get_logger()
_AGAIN = 1.0
"""Seconds until the next try, when the database could not be reached."""
_GATHER = 0.2
"""Seconds in which events gather, that are then read at once: reading few costs as much as many."""


@dataclass(frozen=True)
class Received:
    """What becomes of an event: it is used, doubled (it came before), or set aside, and why."""

    id: str
    fate: str
    reason: str


Receipt = list[Received]
Read = Callable[[dict[str, str], bytes], list[SentEvent]]
"""Reads the events of a request, by its headers and body."""


def _reasons(file: dict[str, Any], rows: Sequence[str]) -> list[str]:
    """Why each of these rows will be set aside; empty for those that can be used."""
    records = cut_lines("".join(row + "\n" for row in rows).encode(), 1, True)
    table = parse_objects(records)
    reasons = [FLAWS.get(int(flaw), "") for flaw in records.flaws]
    if table.num_rows:
        mapping = _mapping_of(file, table).only((*FLAWED_BY, "time"))
        mapped = with_all_fields(apply(mapping, table))
        found = flaws_of(distinct_of(mapped.select(FLAWED_BY)), mapping.times.read(mapped["time"]))
        for record, flaw in zip(np.flatnonzero(records.flaws == GOOD), found, strict=True):
            reasons[record] = REASONS[flaw]
    return reasons


def _mapping_of(file: dict[str, Any], table: pa.Table) -> Mapping:
    """How the file is read. Nobody has said what may not be kept, and what came is kept already."""
    if "mapping" in file:
        return Mapping.of(file["mapping"])
    return replace(propose(table).mapping, left_out=[], hashed=[])


class LiveLogs:
    """Takes in events, and reads them into rows on a thread of its own."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self._wake = Event()
        self._coders: dict[int, tuple[int, int, Coder]] = {}
        self._thread = Thread(target=self._work, name="live", daemon=True)

    def start(self) -> None:
        self._wake.set()
        self._thread.start()

    def take(self, app_id: int, read: Read, headers: dict[str, str], body: bytes) -> Receipt:
        """Keep the events of a request. They are durable when this returns."""
        return self.receive(app_id, read(headers, body))

    def receive(self, app_id: int, events: Sequence[SentEvent]) -> Receipt:
        """Keep these events. They are durable when this returns."""
        sent = [(event.source, event.id, event.row) for event in events]
        are_new, file = live.append(self._engine, app_id, sent)
        self._wake.set()
        reasons = _reasons(file, [event.row for event in events])
        return [
            Received(event.id, "doubled", "")
            if not new
            else Received(event.id, "set aside" if reason else "used", reason)
            for event, new, reason in zip(events, are_new, reasons, strict=True)
        ]

    def _work(self) -> None:
        while True:
            self._wake.wait()
            self._wake.clear()
            try:
                self.read_in()
            except (SQLAlchemyError, psycopg.Error):
                sleep(_AGAIN)
                self._wake.set()
            except Exception:
                _note.exception("live events could not be read")
                sleep(_AGAIN)
            sleep(_GATHER)

    def read_in(self) -> None:
        """Read all events into rows that have come by now, and are not yet."""
        behind = select(StoredLog).where(StoredLog.live, StoredLog.through < StoredLog.received)
        whole = False
        while not whole:
            with Session(self._engine, expire_on_commit=False) as session:
                logs = list(session.scalars(behind))
            done = [self._read_block(log) for log in logs]
            whole = all(done)

    def _read_block(self, log: StoredLog) -> bool:
        """Whether that is all which the log had received."""
        data = live.lines_after(self._engine, log.id, log.through)
        through = log.through + data.count(b"\n")
        records = cut_lines(data, log.through + 1, True)
        table = parse_objects(records)
        file = dict(log.files[0])
        if table.num_rows and "mapping" not in file:
            mapping = _mapping_of(file, table)
            file |= {"shape": shape_of(table.column_names), "mapping": asdict(mapping)}
        mapping = Mapping.of(file.get("mapping", {}))
        coder = self._coder(log)
        known = coder.sizes
        collector = RowCollector(coder=coder)
        mapped = apply(mapping, table) if table.num_rows else table
        columns = collector.add(0, records, told(records, mapped, mapping.times))
        new = list(coder.terms_since(known))
        aside = [(row.file, row.line, row.reason, row.text) for row in collector.set_aside]
        users = coder.sizes["user"]
        stored = live.extend_log(self._engine, log, through, columns, new, aside, file, users)
        if stored:
            self._coders[log.id] = (log.version, through, coder)
        else:
            self._coders.pop(log.id, None)
        return stored and through >= log.received

    def _coder(self, log: StoredLog) -> Coder:
        """The codes given out so far: kept from the block before, or as the database has them.

        It is let go until the block is stored, so that a block which fails leaves no codes behind.
        """
        version, through, coder = self._coders.pop(log.id, (0, 0, None))
        if coder is None or (version, through) != (log.version, log.through):
            return Coder(live.known_terms(self._engine, log.id))
        return coder
