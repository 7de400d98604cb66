"""Events that an app sends: kept durably, in order, each once."""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Iterator, Sequence
from functools import partial
from typing import Any

from psycopg import sql
from sqlalchemy import JSON, Engine, Text, bindparam, column, func, select, update
from sqlalchemy.orm import Session

from mossy_trail.core.model.log import Column
from mossy_trail.store.database import tried_again
from mossy_trail.store.logs import add_partition, copy_rows, index_by_line, partition, span
from mossy_trail.store.models import (
    App,
    LiveEvent,
    Row,
    SetAsideRow,
    StoredLog,
    Term,
)

NAME = "live events"
ERASED = "\N{SYMBOL FOR DELETE}"
"""Stands for what was erased."""
_PARTS = (Row, Term, SetAsideRow, LiveEvent)
BLOCK = 20_000
"""Events that are read into rows at once."""


def append(
    engine: Engine, app_id: int, events: Sequence[tuple[str, str, str]]
) -> tuple[list[bool], dict[str, Any]]:
    """Keep events (source, id, row as JSON); returns which were new, and the file they are in.

    They are durable when this returns. One request at a time holds a log, so that lines follow
    on each other without a gap.
    """
    return tried_again(partial(_append, engine, app_id, events))


def _append(
    engine: Engine, app_id: int, events: Sequence[tuple[str, str, str]]
) -> tuple[list[bool], dict[str, Any]]:
    with Session(engine) as session, session.begin():
        log = _live_log(session, app_id)
        names = [(source, event_id) for source, event_id, _ in events]
        erased = {_erased(*name): name for name in names}
        found = _known(session, log.id, [*names, *erased])
        there = {erased.get(name, name) for name in found}
        new = {
            (source, event_id): text
            for source, event_id, text in events
            if (source, event_id) not in there
        }
        rows = [
            (log.id, source, event_id, line, text)
            for line, ((source, event_id), text) in enumerate(new.items(), log.received + 1)
        ]
        _copy(session, LiveEvent, log.id, rows)
        log.received += len(rows)
        log.duplicates += len(events) - len(rows)
        left = set(new)
        are_new = []
        for name in names:
            are_new.append(name in left)
            left.discard(name)
        return are_new, dict(log.files[0])


_ASKED = (
    func.json_to_recordset(bindparam("asked", type_=JSON))
    .table_valued(column("source", Text), column("event_id", Text))
    .render_derived(with_types=True)
)
_KNOWN = select(LiveEvent.source, LiveEvent.event_id).where(
    LiveEvent.log_id == bindparam("log_id"),
    LiveEvent.source == _ASKED.c.source,
    LiveEvent.event_id == _ASKED.c.event_id,
)
"""Names are handed over as one text, and the query is made once: that is most of what it costs."""


def _known(session: Session, log_id: int, names: Sequence[tuple[str, str]]) -> set[tuple[str, str]]:
    """Which of these events are there: each is looked up in their index."""
    asked = [{"source": source, "event_id": event_id} for source, event_id in names]
    found = session.execute(_KNOWN, {"asked": asked, "log_id": log_id})
    return {(source, event_id) for source, event_id in found}


def forget_events(session: Session, log_id: int, lines: Sequence[int]) -> None:
    """Make the events on these lines unreadable; sent again, they are still known, and dropped."""
    name = LiveEvent.source + "\n" + LiveEvent.event_id
    digest = func.encode(func.sha256(func.convert_to(name, "UTF8")), "hex")
    own = update(LiveEvent).where(LiveEvent.log_id == log_id, LiveEvent.line.in_(lines))
    session.execute(own.values(text="", source=ERASED, event_id=digest))


def _erased(source: str, event_id: str) -> tuple[str, str]:
    """The name of an event that was erased."""
    return ERASED, hashlib.sha256(f"{source}\n{event_id}".encode()).hexdigest()


def _live_log(session: Session, app_id: int) -> StoredLog:
    """The live log of an app, made when its first events come; locked until the commit."""
    wanted = select(StoredLog).where(StoredLog.app_id == app_id, StoredLog.live)
    log = session.scalar(wanted.with_for_update())
    if log is None:
        session.get_one(App, app_id, with_for_update=True)
        log = session.scalar(wanted.with_for_update())
    if log is None:
        log = StoredLog(
            app_id=app_id,
            version=1,
            files=[{"name": NAME, "bytes": 0}],
            rows=0,
            reasons={},
            users=0,
            live=True,
            received=0,
            through=0,
            duplicates=0,
        )
        session.add(log)
        session.flush()
        for model in _PARTS:
            add_partition(_connection(session), model, log.id)
        index_by_line(_connection(session), log.id)
    return log


def _connection(session: Session) -> Any:
    return session.connection().connection.driver_connection


def _copy(session: Session, model: Any, log_id: int, rows: Sequence[tuple[Any, ...]]) -> None:
    statement = sql.SQL("COPY {} FROM STDIN").format(sql.Identifier(partition(model, log_id)))
    with _connection(session).cursor() as cursor, cursor.copy(statement) as copy:
        for row in rows:
            copy.write_row(row)


def lines_after(engine: Engine, log_id: int, line: int, most: int = BLOCK) -> bytes:
    """The rows of the events after this line, one a line; at most so many."""
    query = select(LiveEvent.text).where(LiveEvent.log_id == log_id, LiveEvent.line > line)
    with Session(engine) as session:
        texts = session.scalars(query.order_by(LiveEvent.line).limit(most))
        return "".join(f"{text}\n" for text in texts).encode()


def kept_lines(engine: Engine, log_id: int) -> Iterator[tuple[int, bytes]]:
    """First line and bytes of each block of a live log's events, in order."""
    line = 0
    while data := lines_after(engine, log_id, line):
        yield line + 1, data
        line += data.count(b"\n")


def known_terms(engine: Engine, log_id: int) -> dict[str, list[str]]:
    """The strings that codes of a log's rows stand for so far."""
    terms: dict[str, list[str]] = {}
    query = select(Term.dictionary, Term.text).where(Term.log_id == log_id)
    with Session(engine) as session:
        for dictionary, text in session.execute(query.order_by(Term.dictionary, Term.code)):
            terms.setdefault(dictionary, []).append(text)
    return terms


def extend_log(
    engine: Engine,
    before: StoredLog,
    through: int,
    columns: dict[str, Column],
    terms: Sequence[tuple[str, int, str]],
    set_aside: Sequence[tuple[int, int, str, str]],
    file: dict[str, Any],
    users: int,
) -> bool:
    """Add the rows read from the lines up to `through`, unless the log has changed since `before`.

    `terms` are new ones: dictionary, code and text.
    """
    with Session(engine) as session, session.begin():
        log = session.get(StoredLog, before.id, with_for_update=True)
        if log is None or (log.version, log.through) != (before.version, before.through):
            return False
        _copy(session, Term, log.id, [(log.id, *term) for term in terms])
        _copy(session, SetAsideRow, log.id, [(log.id, *row) for row in set_aside])
        copy_rows(_connection(session), partition(Row, log.id), log.id, columns)
        log.through, log.files, log.users = through, [file], users
        log.rows += len(columns["time"])
        log.reasons = dict(Counter(log.reasons) + Counter(row[2] for row in set_aside))
        first, last = span(columns["time"])
        if first and last:
            log.first_time = min(log.first_time or first, first)
            log.last_time = max(log.last_time or last, last)
        return True
