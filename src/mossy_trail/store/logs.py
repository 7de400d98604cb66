"""Storing a log whole or not at all, reading it back, and dropping it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from functools import partial
from typing import Any, NamedTuple

import numpy as np
import psycopg
import pyarrow as pa
from psycopg import sql
from sqlalchemy import (
    ARRAY,
    Engine,
    Integer,
    and_,
    cast,
    delete,
    false,
    func,
    or_,
    select,
    update,
)
from sqlalchemy.orm import Session

from mossy_trail.core.model.log import (
    DICTIONARIES,
    DICTIONARY_OF,
    NONE,
    SECOND,
    Column,
    Log,
    plausible,
    recoded,
)
from mossy_trail.core.model.people import people
from mossy_trail.store import wire
from mossy_trail.store.database import tried_again
from mossy_trail.store.models import (
    PARTITIONED,
    Job,
    LiveEvent,
    RawBlock,
    Row,
    SetAsideRow,
    StoredLog,
    Term,
)

LAST_LINE = 2**31 - 1
_ATTACH = "ALTER TABLE {whole} ATTACH PARTITION {part} FOR VALUES IN ({id})"


class Packed(NamedTuple):
    """Bytes of a file as they are kept: their first line, their size, and they, compressed."""

    first_line: int
    size: int
    data: bytes


def packed(first_line: int, data: bytes) -> Packed:
    return Packed(first_line, len(data), pa.compress(data, codec="zstd", asbytes=True))


class ChangedMeanwhile(RuntimeError):
    """A log that was being read anew has been changed or deleted at the same time."""


class LogWriter:
    """One log on its way into the database, inside one transaction.

    A log that is there already is written anew: its rows, terms and rows set aside are replaced,
    and its kept bytes stay. Raises `ChangedMeanwhile` if something else changed it.
    """

    def __init__(self, session: Session, log_id: int, anew: bool) -> None:
        self._session, self.log_id = session, log_id
        known = select(StoredLog.version).where(StoredLog.id == log_id)
        self._version = session.scalar(known) or 0
        self._models = PARTITIONED[:-1] if anew else PARTITIONED
        driver: Any = session.connection().connection.driver_connection
        self._connection: psycopg.Connection[Any] = driver
        for model in self._models:
            self._run(
                "CREATE TABLE {new} (LIKE {whole} INCLUDING DEFAULTS, CHECK (log_id = {id}))", model
            )

    def _run(self, statement: str, model: Any) -> None:
        _run(self._connection, statement, model, self.log_id)

    def _new(self, model: Any) -> str:
        return _new(model, self.log_id)

    def add_blocks(self, file: int, blocks: Iterable[Packed]) -> None:
        """Keep some of the file's bytes as they came."""
        statement = sql.SQL("COPY {} FROM STDIN (FORMAT BINARY)")
        new = sql.Identifier(self._new(RawBlock))
        with self._connection.cursor() as cursor, cursor.copy(statement.format(new)) as copy:
            copy.set_types(["int4", "int4", "int4", "int4", "bytea"])
            for block in blocks:
                copy.write_row((self.log_id, file, *block))

    def add_set_aside(self, rows: Iterable[tuple[int, int, str, str]]) -> None:
        """Rows set aside: file, line, reason, text."""
        self._copy_rows(SetAsideRow, ((self.log_id, *row) for row in rows))

    def add_rows(self, columns: dict[str, Column]) -> None:
        """Rows by the columns of a log."""
        copy_rows(self._connection, self._new(Row), self.log_id, columns)

    def add_terms(self, terms: dict[str, list[str]]) -> None:
        """All strings that codes of the rows stand for."""
        for name in DICTIONARIES:
            numbered = enumerate(terms[name])
            self._copy_rows(Term, ((self.log_id, name, code, text) for code, text in numbered))

    def _copy_rows(self, model: Any, rows: Iterable[tuple[Any, ...]]) -> None:
        statement = sql.SQL("COPY {} FROM STDIN").format(sql.Identifier(self._new(model)))
        with self._connection.cursor() as cursor, cursor.copy(statement) as copy:
            for row in rows:
                copy.write_row(row)

    def attach(
        self,
        app_id: int,
        files: Sequence[dict[str, Any]],
        log: Log,
        reasons: Mapping[str, int],
        last_line: int = 0,
    ) -> StoredLog:
        """Make the log part of the app. It is there for others from the commit on.

        `reasons` counts the rows set aside by reason; `last_line` is the last that was read.
        """
        stored = self._session.get(StoredLog, self.log_id, with_for_update=True)
        if stored is None:
            stored = StoredLog(id=self.log_id, app_id=app_id, version=0)
            self._session.add(stored)
        if stored.version != self._version:
            raise ChangedMeanwhile
        tried_again(self._put_in_place)
        if stored.live:
            index_by_line(self._connection, self.log_id)
        stored.version += 1
        stored.through = last_line if stored.live else 0
        stored.files, stored.rows, stored.reasons = list(files), len(log), dict(reasons)
        stored.users = len(people(log).terms["user"])
        stored.first_time, stored.last_time = span(log.columns["time"])
        self._session.flush()
        return stored

    def _put_in_place(self) -> None:
        with self._connection.transaction():  # within that of the log, which goes on if this fails
            for model in self._models:
                self._run("DROP TABLE IF EXISTS {part}", model)
                self._run("ALTER TABLE {new} RENAME TO {part}", model)
                self._run(_ATTACH, model)

    def finish_job(self, job_id: int) -> None:
        """Say in the same transaction that the import of this log is done."""
        done = update(Job).where(Job.id == job_id)
        self._session.execute(done.values(state="done", log_id=self.log_id, message="", mend=""))


def partition(model: Any, log_id: int) -> str:
    """The name of the table in which a log's share of a partitioned table lies."""
    return f"{model.__tablename__}_{log_id}"


def _new(model: Any, log_id: int) -> str:
    return partition(model, log_id) + "_new"


def _run(connection: Any, statement: str, model: Any, log_id: int) -> None:
    """Run a statement about a log's share of a table, as it is and as it is to be."""
    names = {
        "new": sql.Identifier(_new(model, log_id)),
        "part": sql.Identifier(partition(model, log_id)),
        "whole": sql.Identifier(model.__tablename__),
        "id": sql.Literal(log_id),
    }
    connection.execute(sql.SQL(statement).format(**names))


def add_partition(connection: Any, model: Any, log_id: int) -> None:
    """Make room for a log in a partitioned table, while others read and write there."""
    for statement in ("CREATE TABLE {part} (LIKE {whole} INCLUDING DEFAULTS)", _ATTACH):
        _run(connection, statement, model, log_id)


def index_by_line(connection: Any, log_id: int) -> None:
    """Let the rows of a live log be found by their lines: each time it has grown, its last ones are
    asked for. Other logs are read whole, and an index would only slow their coming in."""
    _run(connection, "CREATE INDEX ON {part} (line)", Row, log_id)


def copy_rows(connection: Any, table: str, log_id: int, columns: dict[str, Column]) -> None:
    """Copy the columns of a log into a table of rows."""
    statement = sql.SQL("COPY {} FROM STDIN (FORMAT BINARY)").format(sql.Identifier(table))
    with connection.cursor() as cursor, cursor.copy(statement) as copy:
        for piece in wire.written(columns, log_id):
            copy.write(piece)


@contextmanager
def log_writer(engine: Engine, log_id: int | None = None) -> Iterator[LogWriter]:
    """A writer of a new log, or of this one anew.

    Its work is kept whole when the block ends, and not at all when it raises.
    """
    with Session(engine) as session, session.begin():
        if log_id is not None:
            yield LogWriter(session, log_id, anew=True)
            return
        next_id = "SELECT nextval(pg_get_serial_sequence('logs', 'id'))"
        log_id = session.connection().exec_driver_sql(next_id).scalar_one()
        yield LogWriter(session, log_id, anew=False)


def span(time: Column) -> tuple[datetime | None, datetime | None]:
    """The first and the last of these moments, but those of clocks that cannot be right."""
    now = int(datetime.now(UTC).timestamp()) * SECOND
    right = time[plausible(time, now)]
    return (moment(int(right.min())), moment(int(right.max()))) if len(right) else (None, None)


def moment(microseconds: int) -> datetime:
    """The moment, held within the years that a datetime can show."""
    try:
        return datetime(1970, 1, 1, tzinfo=UTC) + timedelta(microseconds=microseconds)
    except OverflowError:
        edge = datetime.min if microseconds < 0 else datetime.max
        return edge.replace(tzinfo=UTC)


def read_log(
    engine: Engine,
    log_id: int,
    through: int = LAST_LINE,
    users: Sequence[int] | None = None,
) -> Log:
    """A stored log, or its rows up to and with a line, or of these users; codes are as they stand
    there.

    Its `file` terms are `LOG/FILE`, which are unique among all logs.
    """
    own = sql.SQL("true") if users is None else sql.SQL('"user" = ANY({})').format(list(users))
    where = sql.SQL("line <= {} AND {}").format(through, own)
    with Session(engine) as session:
        columns, terms = _columns(session, log_id, where), {}
        for name in DICTIONARIES:
            query = select(Term.text).where(Term.log_id == log_id, Term.dictionary == name)
            terms[name] = list(session.scalars(query.order_by(Term.code)))
        terms["file"] = _files(session, log_id)
    return Log(columns, terms)


def read_tail(engine: Engine, log_id: int, after: int, through: int) -> Log:
    """The rows of a live log after one line, up to and with another, as `read_log` tells them, but
    with the terms alone that they have: what it costs does not grow with the log."""
    where = sql.SQL("line > {} AND line <= {}").format(after, through)
    with Session(engine) as session:
        columns, codings = _columns(session, log_id, where), {}
        used = {name: _used(columns, name) for name in DICTIONARIES if name != "file"}
        terms = _texts(session, log_id, used)
        for name, codes in used.items():
            codings[name] = np.full(int(codes.max(initial=NONE)) + 1, NONE, "int32")
            codings[name][codes] = np.arange(len(codes), dtype="int32")
        terms["file"] = _files(session, log_id)
        codings["file"] = np.arange(len(terms["file"]), dtype="int32")
    return Log(recoded(columns, codings), terms)


def _columns(session: Session, log_id: int, where: sql.Composable) -> dict[str, Column]:
    statement = sql.SQL("COPY (SELECT {} FROM {} WHERE {}) TO STDOUT (FORMAT BINARY)").format(
        wire.READ, sql.Identifier(partition(Row, log_id)), where
    )
    connection: Any = session.connection().connection.driver_connection
    with connection.cursor() as cursor, cursor.copy(statement) as copy:
        return wire.read(b"".join(copy))


def _used(columns: Mapping[str, Column], dictionary: str) -> Column:
    """The codes of a dictionary that columns have, in order."""
    own = [columns[name] for name, of in DICTIONARY_OF.items() if of == dictionary]
    used = np.unique(np.concatenate(own))
    return used[used != NONE]


def _texts(session: Session, log_id: int, used: Mapping[str, Column]) -> dict[str, list[str]]:
    """The terms of these codes of each dictionary, of which there is one each."""
    terms: dict[str, list[str]] = {name: [] for name in used}
    some = [
        and_(
            Term.dictionary == name,
            Term.code == func.any(cast(codes.tolist(), ARRAY(Integer))),
        )
        for name, codes in used.items()
        if len(codes)
    ]
    query = select(Term.dictionary, Term.text).where(Term.log_id == log_id, or_(false(), *some))
    for name, text in session.execute(query.order_by(Term.dictionary, Term.code)):
        terms[name].append(text)
    return terms


def _files(session: Session, log_id: int) -> list[str]:
    files = session.get_one(StoredLog, log_id).files
    return [file_key(log_id, number) for number in range(len(files))]


def file_key(log_id: int, number: int) -> str:
    return f"{log_id}/{number}"


def drop_log(engine: Engine, log_id: int) -> None:
    """Take a log away with all that came with it; prompt whatever its size."""
    tried_again(partial(_drop, engine, log_id))


def _drop(engine: Engine, log_id: int) -> None:
    with Session(engine) as session, session.begin():
        stored = session.get(StoredLog, log_id)
        if stored is None:
            return
        for model in (*PARTITIONED, LiveEvent):
            drop = f'DROP TABLE IF EXISTS "{partition(model, log_id)}"'
            session.connection().exec_driver_sql(drop)
        asking = delete(Job).where(Job.log_id == log_id, Job.anew, Job.state == "asking")
        session.execute(asking)
        session.delete(stored)


def raw_block(session: Session, log_id: int, file: int, line: int) -> tuple[RawBlock, bytes] | None:
    """The block in which this line lies, and its bytes."""
    block = session.scalars(
        select(RawBlock)
        .where(RawBlock.log_id == log_id, RawBlock.file == file, RawBlock.first_line <= line)
        .order_by(RawBlock.first_line.desc())
        .limit(1)
    ).first()
    if block is None:
        return None
    return block, unpacked(block)


def kept_blocks(engine: Engine, log_id: int, file: int) -> Iterator[tuple[int, bytes]]:
    """First line and bytes of each block that was kept of a file, in order."""
    query = select(RawBlock).where(RawBlock.log_id == log_id, RawBlock.file == file)
    ordered = query.order_by(RawBlock.first_line).execution_options(yield_per=4)
    with Session(engine) as session:
        for block in session.scalars(ordered):
            yield block.first_line, unpacked(block)


def unpacked(block: RawBlock) -> bytes:
    if not block.size:
        return b""
    return pa.decompress(block.data, decompressed_size=block.size, codec="zstd", asbytes=True)
