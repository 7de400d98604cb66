"""Erasing all that logs hold of one user, to the bytes that were kept."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Sequence
from typing import Any, NamedTuple

import numpy as np
import pyarrow as pa
from sqlalchemy import Engine, delete, func, select, update
from sqlalchemy.orm import Session

from mossy_trail.core.log import DICTIONARY_OF
from mossy_trail.store.logs import unpacked
from mossy_trail.store.models import LiveEvent, RawBlock, Row, SetAsideRow, StoredLog, Term

Without = Callable[[dict[str, Any], bytes, int, Sequence[int]], bytes]
"""(file, bytes, their first line, lines) → the bytes without the rows on these lines."""
_ERASED = "\N{SYMBOL FOR DELETE}"


class Erased(NamedTuple):
    """What was erased: rows, rows set aside that named the user, and in how many logs."""

    rows: int
    set_aside: int
    logs: int


def erase_user(engine: Engine, app_id: int, user: str, without: Without) -> Erased:
    """Erase a user's rows from all logs of an app, whole or not at all.

    Rows set aside go where their text names the user. The bytes that were kept lose these rows
    too; the lines of the others keep their numbers.
    """
    rows = set_aside = logs = 0
    with Session(engine) as session, session.begin():
        ids = select(StoredLog.id).where(StoredLog.app_id == app_id).order_by(StoredLog.id)
        for log_id in session.scalars(ids):
            log = session.get_one(StoredLog, log_id, with_for_update=True)
            own, aside = _erase_from(session, log, user, without)
            rows, set_aside, logs = rows + own, set_aside + aside, logs + bool(own or aside)
    return Erased(rows, set_aside, logs)


def _erase_from(session: Session, log: StoredLog, user: str, without: Without) -> tuple[int, int]:
    code = session.scalar(
        select(Term.code).where(Term.log_id == log.id, Term.dictionary == "user", Term.text == user)
    )
    aside = _set_aside_of(session, log.id, user)
    own = _rows_of(session, log.id, code) if code is not None else []
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
    if code is not None:
        terms = _terms_of(session, log.id, code)
        session.execute(delete(Row).where(Row.log_id == log.id, Row.user == code))
        _forget_terms(session, log.id, terms)
        log.users -= 1
    log.rows -= len(own)
    log.reasons = dict(Counter(log.reasons) - Counter(row.reason for row in aside))
    log.version += 1
    return len(own), len(aside)


def _rows_of(session: Session, log_id: int, code: int) -> list[tuple[int, int]]:
    query = select(Row.file, Row.line).where(Row.log_id == log_id, Row.user == code)
    return [(file, line) for file, line in session.execute(query)]


def _set_aside_of(session: Session, log_id: int, user: str) -> list[SetAsideRow]:
    """Rows set aside whose text has the user's id in it as a word of its own."""
    query = select(SetAsideRow).where(
        SetAsideRow.log_id == log_id, SetAsideRow.text.contains(user, autoescape=True)
    )
    word = re.compile(rf"(?<!\w){re.escape(user)}(?!\w)")
    return [row for row in session.scalars(query) if word.search(row.text)]


def _terms_of(session: Session, log_id: int, user: int) -> dict[str, set[int]]:
    """Per dictionary the codes that the user's rows have."""
    found: dict[str, set[int]] = {}
    for name, dictionary in DICTIONARY_OF.items():
        if dictionary != "file":
            column = getattr(Row, name)
            query = select(column).where(Row.log_id == log_id, Row.user == user).distinct()
            found.setdefault(dictionary, set()).update(session.scalars(query))
    return found


def _forget_terms(session: Session, log_id: int, terms: dict[str, set[int]]) -> None:
    """Make unreadable each of these strings that no row points to any more; codes stay."""
    for dictionary, codes in terms.items():
        left = set(codes) - {-1}
        for name in (n for n, d in DICTIONARY_OF.items() if d == dictionary):
            column = getattr(Row, name)
            used = select(column).where(Row.log_id == log_id, column.in_(left)).distinct()
            left -= set(session.scalars(used)) if left else set()
        text = func.concat(_ERASED, Term.code) if dictionary != "props" else "{}"
        session.execute(
            update(Term)
            .where(Term.log_id == log_id, Term.dictionary == dictionary, Term.code.in_(left))
            .values(text=text)
        )


def _cut_from_bytes(
    session: Session, log: StoredLog, places: Sequence[tuple[int, int]], without: Without
) -> None:
    if log.live:
        lines = [line for _, line in places]
        own = update(LiveEvent).where(LiveEvent.log_id == log.id, LiveEvent.line.in_(lines))
        session.execute(own.values(text=""))
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
