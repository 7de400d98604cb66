"""Erasing all that logs hold of one user, to the bytes that were kept."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Sequence
from typing import Any, NamedTuple

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray
from sqlalchemy import Engine, delete, func, select, update
from sqlalchemy.orm import Session

from mossy_trail.core.model.log import DICTIONARY_OF, Log, merge
from mossy_trail.core.model.people import people
from mossy_trail.store.live import ERASED, forget_events
from mossy_trail.store.logs import read_log, unpacked
from mossy_trail.store.models import RawBlock, Row, SetAsideRow, StoredLog, Term

Without = Callable[[dict[str, Any], bytes, int, Sequence[int]], bytes]
"""(file, bytes, their first line, lines) → the bytes without the rows on these lines."""


class Erased(NamedTuple):
    """What was erased: rows, rows set aside that named the user, and in how many logs."""

    rows: int
    set_aside: int
    logs: int


def erase_user(engine: Engine, app_id: int, user: str, without: Without) -> Erased:
    """Erase a user's rows from all logs of an app, whole or not at all.

    They are those of the person of this name, and those that name it as install or account. Rows
    set aside go where their text names the user. The bytes that were kept lose these rows
    too; the lines of the others keep their numbers.
    """
    rows = set_aside = logs = 0
    with Session(engine) as session, session.begin():
        ids = select(StoredLog.id).where(StoredLog.app_id == app_id).order_by(StoredLog.id)
        every = list(session.scalars(ids.with_for_update()))
        of_person = _rows_of(session, engine, every, user)
        for log_id in every:
            log = session.get_one(StoredLog, log_id)
            own, aside = _erase_from(session, log, of_person[log_id], user, without)
            rows, set_aside, logs = rows + own, set_aside + aside, logs + bool(own or aside)
    return Erased(rows, set_aside, logs)


def _rows_of(session: Session, engine: Engine, log_ids: Sequence[int], user: str) -> dict[int, Log]:
    """Per log its rows that are the person's, or that name it as install or account."""
    installs = {user}
    for log_id in log_ids:
        account = _codes(session, log_id, "account", {user})
        used = select(Row.user).where(Row.log_id == log_id, Row.account.in_(account)).distinct()
        terms = select(Term.text).where(Term.log_id == log_id, Term.dictionary == "user")
        installs.update(session.scalars(terms.where(Term.code.in_(used))))
    read = {
        log_id: read_log(engine, log_id, users=_codes(session, log_id, "user", installs))
        for log_id in log_ids
    }
    whole = merge(list(read.values()))
    named = [_is(log, name, user) for log in (whole, people(whole)) for name in ("user", "account")]
    found = np.logical_or.reduce(named)
    edges = np.cumsum([0, *map(len, read.values())])
    return {
        log_id: log.take(np.flatnonzero(found[begin : begin + len(log)]))
        for (log_id, log), begin in zip(read.items(), edges[:-1], strict=True)
    }


def _codes(session: Session, log_id: int, dictionary: str, texts: set[str]) -> list[int]:
    query = select(Term.code).where(Term.log_id == log_id, Term.dictionary == dictionary)
    return list(session.scalars(query.where(Term.text.in_(texts))))


def _is(log: Log, name: str, text: str) -> NDArray[np.bool_]:
    terms = log.terms[DICTIONARY_OF[name]]
    code = terms.index(text) if text in terms else None
    return np.asarray(log.columns[name] == code) if code is not None else np.zeros(len(log), bool)


def _erase_from(
    session: Session, log: StoredLog, rows: Log, user: str, without: Without
) -> tuple[int, int]:
    aside = _set_aside_of(session, log.id, user)
    own = list(zip(*(rows.columns[name].tolist() for name in ("file", "line")), strict=True))
    if not own and not aside:
        return 0, 0
    _cut_from_bytes(session, log, [*own, *((row.file, row.line) for row in aside)], without)
    for row in aside:
        session.execute(
            delete(SetAsideRow).where(
                SetAsideRow.log_id == log.id,
                SetAsideRow.file == row.file,
                SetAsideRow.line == row.line,
            )
        )
    if own:
        for file in range(len(log.files)):
            lines = [line for of_file, line in own if of_file == file]
            place = Row.log_id == log.id, Row.file == file, Row.line.in_(lines)
            session.execute(delete(Row).where(*place))
        _forget_terms(session, log.id, _terms_of(rows))
        log.users -= 1
    log.rows -= len(own)
    log.reasons = dict(Counter(log.reasons) - Counter(row.reason for row in aside))
    log.version += 1
    return len(own), len(aside)


def _set_aside_of(session: Session, log_id: int, user: str) -> list[SetAsideRow]:
    """Rows set aside whose text has the user's id in it as a word of its own."""
    query = select(SetAsideRow).where(
        SetAsideRow.log_id == log_id, SetAsideRow.text.contains(user, autoescape=True)
    )
    word = re.compile(rf"(?<!\w){re.escape(user)}(?!\w)")
    return [row for row in session.scalars(query) if word.search(row.text)]


def _terms_of(rows: Log) -> dict[str, set[int]]:
    """Per dictionary the codes that the rows have."""
    found: dict[str, set[int]] = {}
    for name, dictionary in DICTIONARY_OF.items():
        if dictionary != "file":
            codes = np.unique(rows.columns[name]).tolist()
            found.setdefault(dictionary, set()).update(codes)
    return found


def _forget_terms(session: Session, log_id: int, terms: dict[str, set[int]]) -> None:
    """Make unreadable each of these strings that no row points to any more; codes stay."""
    for dictionary, codes in terms.items():
        left = set(codes) - {-1}
        for name in (n for n, d in DICTIONARY_OF.items() if d == dictionary):
            column = getattr(Row, name)
            used = select(column).where(Row.log_id == log_id, column.in_(left)).distinct()
            left -= set(session.scalars(used)) if left else set()
        text = func.concat(ERASED, Term.code) if dictionary != "props" else "{}"
        session.execute(
            update(Term)
            .where(Term.log_id == log_id, Term.dictionary == dictionary, Term.code.in_(left))
            .values(text=text)
        )


def _cut_from_bytes(
    session: Session, log: StoredLog, places: Sequence[tuple[int, int]], without: Without
) -> None:
    if log.live:
        forget_events(session, log.id, [line for _, line in places])
        return
    for number, file in enumerate(log.files):
        lines = np.array(sorted(line for own, line in places if own == number), "int64")
        of_file = RawBlock.log_id == log.id, RawBlock.file == number
        starts = list(
            session.scalars(
                select(RawBlock.first_line).where(*of_file).order_by(RawBlock.first_line)
            )
        )
        edges = np.searchsorted(lines, [*starts, np.iinfo("int64").max])
        for start, first, last in zip(starts, edges[:-1], edges[1:], strict=True):
            if first < last:
                block = session.get_one(RawBlock, (log.id, number, start))
                data = without(file, unpacked(block), start, lines[first:last].tolist())
                block.size = len(data)
                block.data = pa.compress(data, codec="zstd", asbytes=True)
                session.flush()
                session.expunge(block)
