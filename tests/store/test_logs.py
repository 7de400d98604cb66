"""Logs in PostgreSQL: whole or not at all, and the same when read back."""

from __future__ import annotations

import gc
import json
import shutil
import threading
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from itertools import cycle
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from alembic import command
from alembic.autogenerate import compare_metadata
from alembic.config import Config
from alembic.migration import MigrationContext
from sqlalchemy import Engine, func, select, text
from sqlalchemy.exc import OperationalError
from sqlalchemy.orm import Session

from mossy_trail.core.model.log import (
    DICTIONARY_OF,
    DTYPES,
    EVENT,
    NONE,
    Log,
    merge,
    parts_needed,
    split,
)
from mossy_trail.core.model.scope import Scope
from mossy_trail.engine import health, studies
from mossy_trail.engine.measures import Measured, measured
from mossy_trail.engine.study import Study
from mossy_trail.ingest.live import LiveLogs
from mossy_trail.intake.cloud_events import SentEvent
from mossy_trail.store import live
from mossy_trail.store import team as team  # whose tables are among the models'
from mossy_trail.store.database import migrations
from mossy_trail.store.folder import MAKING
from mossy_trail.store.logs import (
    drop_log,
    file_key,
    log_writer,
    packed,
    raw_block,
    read_log,
    read_tail,
)
from mossy_trail.store.models import App, Base, LiveEvent, Row, SetAsideRow, StoredLog
from mossy_trail.store.parts import PartsCache, Stamp
from tests.conftest import until

WAITING = text("SELECT count(*) FROM pg_locks WHERE NOT granted")
FILES = [{"name": "skerry.csv", "bytes": 7}]


@pytest.fixture
def app_id(engine: Engine) -> int:
    with Session(engine) as session, session.begin():
        app = App(key="skerry", name="Skerry")
        session.add(app)
        session.flush()
        return app.id


def store(engine: Engine, app_id: int, log: Log) -> int:
    with log_writer(engine) as writer:
        writer.add_blocks(0, [packed(2, b"some,bytes\n" * 1000)])
        writer.add_set_aside([(0, 9, "no user", "tab\there \\ and\nthere")])
        writer.add_rows(log.columns)
        writer.add_terms(log.terms)
        writer.attach(app_id, FILES, log, {"no user": 1})
        return writer.log_id


def same_rows(a: Log, b: Log) -> bool:
    """Whether two logs say the same, row by row, however their dictionaries are numbered."""
    for name in DTYPES:
        left, right = a.columns[name], b.columns[name]
        if name in DICTIONARY_OF and name != "file":
            terms = a.terms[DICTIONARY_OF[name]], b.terms[DICTIONARY_OF[name]]
            left, right = (
                np.array([*t, None], object)[codes]
                for t, codes in zip(terms, (left, right), strict=True)
            )
        if name != "file" and not np.array_equal(left, right):
            return False
    return True


def test_the_migrations_make_the_tables_of_the_models(engine: Engine) -> None:
    with engine.connect() as connection:
        made = MigrationContext.configure(connection)
        assert compare_metadata(made, Base.metadata) == []


def test_a_log_outlives_migrations_down_and_up_again(
    engine: Engine, app_id: int, demo_log: Log
) -> None:
    """Step by step to the first form of the tables, and back; then to nothing at all."""
    log_id = store(engine, app_id, demo_log)

    def at(revision: str, go: Callable[[Config, str], None]) -> None:
        with engine.begin() as connection:
            go(migrations(connection), revision)

    for revision in [*["-1"] * 7, *["+1"] * 7]:
        at(revision, command.downgrade if revision == "-1" else command.upgrade)
        with engine.connect() as connection:
            rows = connection.scalar(text("SELECT count(*) FROM readable_rows"))
        assert rows == len(demo_log), revision
    assert same_rows(read_log(engine, log_id), demo_log)
    at("base", command.downgrade)
    at("head", command.upgrade)
    with Session(engine) as session:
        assert session.scalar(select(func.count()).select_from(StoredLog)) == 0


def test_values_of_all_sizes_come_back(engine: Engine, app_id: int, demo_log: Log) -> None:
    """What is missing is null in the tables, but for a moment whose bits are those of a −1."""
    log = demo_log.take(np.arange(8))
    before_2000 = 946_684_800_000_000 - 1
    extremes = {
        "order": [NONE, 0, 1, -2, 2**16, 2**32, 2**63 - 1, -(2**63)],
        "count": [NONE, 0, 1, -2, 255, 2**16, 2**31 - 1, -(2**31)],
        "time": [before_2000, before_2000 + 1, 0, 1, NONE, -2, 2**32, 2**50],
        "outcome": [NONE, 0, 1, 2, 3, 4, NONE, 0],
    }
    for name, own in extremes.items():
        log.columns[name][:] = own
    found = read_log(engine, store(engine, app_id, log))
    for name, own in extremes.items():
        assert found.columns[name].tolist() == own, name


def test_a_log_comes_back_as_it_went_in(engine: Engine, app_id: int, demo_log: Log) -> None:
    log_id = store(engine, app_id, demo_log)
    assert same_rows(read_log(engine, log_id), demo_log)
    with Session(engine) as session:
        stored = session.get_one(StoredLog, log_id)
        assert (stored.rows, stored.set_aside) == (len(demo_log), 1)
        assert session.scalars(select(SetAsideRow.text)).one() == "tab\there \\ and\nthere"
        found = raw_block(session, log_id, 0, 77)
        assert found
        assert found[1] == b"some,bytes\n" * 1000
        assert raw_block(session, log_id, 0, 1) is None
        readable = text("SELECT event, screen FROM readable_rows WHERE line = 3")
        assert session.execute(readable).one() == ("screen_view", "Splash")
        session.execute(text(f"UPDATE rows SET event = {EVENT['traverse']} WHERE line = 3"))
        assert session.execute(readable).one() == ("traverse", "Splash")


def test_a_log_that_breaks_off_leaves_nothing(engine: Engine, app_id: int, demo_log: Log) -> None:
    def write_and_break() -> None:
        with log_writer(engine) as writer:
            writer.add_rows(demo_log.columns)
            raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        write_and_break()
    with Session(engine) as session:
        assert session.scalar(select(func.count()).select_from(Row)) == 0
        left = text("SELECT count(*) FROM pg_class WHERE relname ~ '^rows_[0-9]'")
        assert session.scalar(left) == 0
    log_id = store(engine, app_id, demo_log)
    drop_log(engine, log_id)
    drop_log(engine, log_id)
    with Session(engine) as session:
        assert session.scalar(select(func.count()).select_from(StoredLog)) == 0
        assert session.scalar(left) == 0


def test_a_log_is_written_anew_though_a_reader_and_it_wait_for_each_other(
    engine: Engine, app_id: int, demo_log: Log
) -> None:
    log_id = store(engine, app_id, demo_log)

    def write_anew() -> None:
        with log_writer(engine, log_id) as writer:
            writer.add_rows(demo_log.columns)
            writer.add_terms(demo_log.terms)
            writer.attach(app_id, FILES, demo_log, {})

    with Session(engine) as reader, ThreadPoolExecutor(1) as pool:
        reader.scalar(select(func.count()).select_from(SetAsideRow))
        coming = pool.submit(write_anew)
        until(lambda: reader.scalar(WAITING))
        with suppress(OperationalError):  # PostgreSQL may as well end this one
            reader.scalar(select(Row.line).limit(1))
        reader.rollback()
        coming.result()
    assert same_rows(read_log(engine, log_id), demo_log)


def sent(*ids: str) -> list[tuple[str, str, str]]:
    return [("/phone", name, json.dumps({"user": "u", "time": name})) for name in ids]


def test_the_first_live_events_do_not_wait_for_who_reads(engine: Engine, app_id: int) -> None:
    with Session(engine) as reader, ThreadPoolExecutor(1) as pool:
        for model in (SetAsideRow, LiveEvent, Row):
            reader.scalar(select(func.count()).select_from(model))
        coming = pool.submit(live.append, engine, app_id, sent("a", "b"))
        until(coming.done)
        reader.rollback()
        assert coming.result()[0] == [True, True]


def test_live_events_come_in_though_another_and_they_wait_for_each_other(
    engine: Engine, app_id: int
) -> None:
    live.append(engine, app_id, sent("a"))
    with Session(engine) as other, ThreadPoolExecutor(1) as pool:
        other.execute(text("LOCK TABLE live_events IN ACCESS EXCLUSIVE MODE"))
        coming = pool.submit(live.append, engine, app_id, sent("a", "b"))
        until(lambda: other.scalar(WAITING))
        with suppress(OperationalError):  # PostgreSQL may as well end this one
            other.scalar(select(StoredLog.id).where(StoredLog.live).with_for_update())
        other.rollback()
        assert coming.result()[0] == [False, True]
    with Session(engine) as session:
        log = session.scalars(select(StoredLog).where(StoredLog.live)).one()
        assert (log.received, log.duplicates) == (2, 1)
        assert live.lines_after(engine, log.id, 0).count(b"\n") == 2


def test_parts_are_the_same_from_memory_from_disk_and_from_the_database(
    engine: Engine, app_id: int, demo_log: Log, tmp_path: Path
) -> None:
    halves = [demo_log.take(np.arange(i, len(demo_log), 2)) for i in (0, 1)]
    ids = [store(engine, app_id, half) for half in halves]
    fresh = {
        i: Log(half.columns, {**half.terms, "file": [file_key(i, 0)]})
        for i, half in zip(ids, halves, strict=True)
    }
    stamps = [Stamp(i, 1) for i in ids]
    cache = PartsCache(engine, tmp_path / "parts")
    from_memory = list(cache.load(app_id, stamps, dict(fresh)).parts)
    from_disk = list(cache.load(app_id, stamps, {}).parts)
    shutil.rmtree(tmp_path / "parts")
    from_database = list(cache.load(app_id, stamps[::-1], {}).parts)
    straight = split(merge(list(fresh.values())), parts_needed(len(demo_log)))
    for parts in (from_memory, from_disk, from_database):
        assert len(parts) == len(straight) == 2
        assert all(map(same_rows, parts, straight))
    cache.load(app_id, stamps[:1], {})
    assert len(list((tmp_path / "parts").iterdir())) == 1


def test_parts_of_which_anything_is_lost_or_cut_short_are_made_anew(
    engine: Engine, app_id: int, demo_log: Log, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    small = demo_log.take(np.arange(300))
    stamps = [Stamp(store(engine, app_id, small), 1)]
    cache = PartsCache(engine, tmp_path)

    def rows() -> int:
        return sum(map(len, cache.load(app_id, stamps, {}).parts))

    assert rows() == 300
    (folder,) = tmp_path.iterdir()
    for name in sorted(path.name for path in folder.iterdir()):
        (folder / name).unlink()
        assert rows() == 300, f"without {name}"
        whole = (folder / name).read_bytes()
        (folder / name).write_bytes(whole[: len(whole) // 2])
        assert rows() == 300, f"with half of {name}"

    def killed(path: Path, **_: object) -> None:
        next(path.glob("part-*")).unlink()
        raise KeyboardInterrupt

    monkeypatch.setattr(shutil, "rmtree", killed)
    with pytest.raises(KeyboardInterrupt):
        cache.load(app_id, [Stamp(stamps[0].log, 2)], {})
    monkeypatch.undo()
    assert [path.suffix for path in tmp_path.iterdir()] == [MAKING]
    assert rows() == 300


def test_parts_hold_what_their_stamp_says_though_the_log_grows(
    engine: Engine, app_id: int, tmp_path: Path
) -> None:
    live, cache = LiveLogs(engine), PartsCache(engine, tmp_path)

    def grow(*numbers: int) -> Stamp:
        row = '{"user": "u", "screen": "S", "time": "2026-05-04T10:00:0%dZ"}'
        live.receive(app_id, [SentEvent("phone", str(n), row % n) for n in numbers])
        live.read_in()
        with Session(engine) as session:
            log = session.scalars(select(StoredLog)).one()
            return Stamp(log.id, log.version, log.through)

    def lines(stamp: Stamp) -> list[int]:
        return [
            int(n) for part in cache.load(app_id, [stamp], {}).parts for n in part.columns["line"]
        ]

    stamps = [grow(0, 1), grow(2), grow(3, 4)]
    assert [lines(stamp) for stamp in stamps] == [[1, 2], [1, 2, 3], [1, 2, 3, 4, 5]]


def test_events_that_come_while_others_are_read_are_read_together_with_what_comes_next(
    engine: Engine, app_id: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Else reading would go on for as long as events come, a few at a time; but an event that was
    not stored, as its log changed meanwhile, is read again at once."""
    logs = LiveLogs(engine)
    asked = iter([True, True, False, True])
    through: list[int] = []

    def extend(engine: Engine, log: StoredLog, line: int, *rest: Any) -> bool:
        through.append(line)
        logs.receive(app_id, [event(len(through))])
        return next(asked) and extend_log(engine, log, line, *rest)

    extend_log = live.extend_log
    monkeypatch.setattr(live, "extend_log", extend)
    logs.receive(app_id, [event(0)])
    logs.read_in()
    assert through == [1]
    logs.read_in()
    assert through == [1, 2]
    logs.read_in()
    assert through == [1, 2, 3, 4]


def event(number: int, **row: str) -> SentEvent:
    row = {"time": f"2026-05-29T10:{number:02}:00Z", "user": "u", "screen": "S", **row}
    return SentEvent("phone", str(number), json.dumps(row))


def test_what_a_live_log_has_grown_by_is_found_without_reading_the_rest(
    engine: Engine, app_id: int
) -> None:
    live = LiveLogs(engine)
    for n in range(40):
        row = {"user": f"user {n}", "screen": f"Screen {n % 3}", "account": f"{n}" if n % 2 else ""}
        send(live, app_id, n, **row)
    with Session(engine) as session:
        log_id = session.scalars(select(StoredLog.id)).one()
    whole, tail = read_log(engine, log_id), read_tail(engine, log_id, 30, 38)
    assert same_rows(tail, whole.take(np.arange(30, 38)))
    assert tail.terms["user"] == [f"user {n}" for n in range(30, 38)]
    assert tail.terms["screen"] == ["Screen 0", "Screen 1", "Screen 2"]
    assert len(read_tail(engine, log_id, 40, 40)) == 0

    def found_by_index() -> bool:
        asked = f"EXPLAIN SELECT * FROM rows_{log_id} WHERE line > 30 AND line <= 38"
        with engine.connect() as connection:
            connection.exec_driver_sql("SET LOCAL enable_seqscan = off")
            return "_line_idx" in str(connection.exec_driver_sql(asked).all())

    assert found_by_index()
    with log_writer(engine, log_id) as writer:
        writer.add_rows(whole.columns)
        writer.add_terms(whole.terms)
        writer.attach(app_id, FILES, whole, {}, last_line=40)
    assert found_by_index(), "a live log that was read anew has it too"
    assert same_rows(read_tail(engine, log_id, 30, 38), tail)
    for go, revision, found in (
        (command.downgrade, "0006", False),
        (command.upgrade, "head", True),
    ):
        with engine.begin() as connection:
            go(migrations(connection), revision)
        assert found_by_index() == found


def studies_in(engine: Engine, folder: Path, memory: int = 1 << 30) -> studies.Studies:
    return studies.Studies(engine, PartsCache(engine, folder / "parts"), folder / "replays", memory)


def test_studies_unused_for_longest_are_let_go(
    engine: Engine, demo_log: Log, tmp_path: Path
) -> None:
    log = demo_log.take(np.arange(500))
    with Session(engine) as session, session.begin():
        apps = [App(key=f"app-{i}", name="App") for i in range(3)]
        session.add_all(apps)
        session.flush()
        a, b, c = (app.id for app in apps)
    for app in (a, b, c):
        store(engine, app, log)
    kept = studies_in(engine, tmp_path, 2 * 500 * studies.BYTES_A_ROW)
    of_a, of_b = kept.of(a), kept.of(b)
    assert kept.of(a) is of_a
    kept.of(c)
    assert kept.of(a) is of_a
    assert kept.of(b) is not of_b


def send(live: LiveLogs, app_id: int, number: int, **row: str) -> None:
    live.receive(app_id, [event(number, **row)])
    live.read_in()


@pytest.mark.parametrize("memory", [1 << 30, 1], ids=["in memory", "in files"])
def test_a_study_grows_with_live_rows_and_is_made_anew_behind(
    engine: Engine,
    app_id: int,
    demo_log: Log,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    memory: int,
) -> None:
    """The first live rows of an app, and those that follow, are put beside what was replayed, also
    where they tell who somebody was; when they have grown too many, all is made anew, and the
    figures are the same each time."""
    monkeypatch.setattr(studies, "FEWEST_TO_GROW", 0)
    monkeypatch.setattr(studies, "LONGEST_REST", 0.0)
    monkeypatch.setattr(studies, "most_beside", lambda _: 10_000)
    store(engine, app_id, demo_log)
    live, kept = LiveLogs(engine), studies_in(engine, tmp_path, memory)
    made = [kept.of(app_id)]
    user = demo_log.terms["user"][int(demo_log.columns["user"][0])]
    signed_in = {"user": "somebody new", "account": "ann"}
    for number, who in enumerate([{"user": user}, {"user": "somebody new"}, signed_in], 1):
        send(live, app_id, number, screen=f"Live {number}", **who)
        until(lambda number=number: kept.of(app_id).rows == len(demo_log) + number)
        made.append(kept.of(app_id))
    assert [study.shelved for study in made] == [memory == 1] * 4
    assert made[0].rows_lately == 0
    assert 0 < made[1].rows_lately < made[2].rows_lately < made[3].rows_lately < len(demo_log)
    assert persons(made[2]) == persons(made[3]) == persons(made[0]) + 1
    monkeypatch.setattr(studies, "most_lately", lambda _: 1)
    kept.of(app_id)
    for thread in threading.enumerate():
        if thread.name == studies.ANEW:
            thread.join()
    anew = kept.of(app_id)
    assert anew.rows_lately == 0
    assert tabs(anew) == tabs(made[3]) != tabs(made[0])
    assert health.measure(anew)["screens"] == health.measure(made[3])["screens"]
    folders = tmp_path / "replays", tmp_path / "parts"
    del made, anew
    gc.collect()
    assert [len(list(folder.glob("app-*"))) for folder in folders] == [int(memory == 1), 1]


def test_a_study_that_many_ask_for_while_rows_come_is_made_once(
    engine: Engine, app_id: int, demo_log: Log, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Who looked for new rows before another put newer ones into it does not take it for old."""
    monkeypatch.setattr(studies, "FEWEST_TO_GROW", 0)
    monkeypatch.setattr(studies, "LONGEST_REST", 0.0)
    monkeypatch.setattr(studies, "REST_OF_GROWN", 0.0)
    store(engine, app_id, demo_log)
    live, kept = LiveLogs(engine), studies_in(engine, tmp_path)
    made: list[Study] = []
    make, look = kept._make, kept._version

    delays = cycle([0.05, 0.0, 0.03, 0.01, 0.0, 0.04, 0.02])

    def look_slowly(app_id: int) -> studies.Version:
        found = look(app_id)
        time.sleep(next(delays))  # so that others come between
        return found

    monkeypatch.setattr(kept, "_version", look_slowly)
    monkeypatch.setattr(kept, "_make", lambda *asked: made.append(make(*asked)) or made[-1])
    sent = threading.Event()

    def ask() -> None:
        while not sent.is_set():
            kept.of(app_id)

    kept.of(app_id)
    with ThreadPoolExecutor(4) as pool:
        asking = [pool.submit(ask) for _ in range(4)]
        for number in range(12):
            send(live, app_id, number, user="somebody", screen="Live")
            kept.of(app_id)
        sent.set()
        for asked in asking:
            asked.result()
    assert kept.of(app_id).rows == len(demo_log) + 12
    assert len(made) == 1


def test_what_was_put_into_files_goes_on_being_asked_until_it_is_let_go(
    engine: Engine, app_id: int, demo_log: Log, tmp_path: Path
) -> None:
    """Rows in order to which, of an install with several accounts, an earlier one comes: only all
    of them together tell whose they are."""
    store(engine, app_id, demo_log)
    live, kept = LiveLogs(engine), studies_in(engine, tmp_path, memory=1)
    for number, account in enumerate(["ann", "bo"], 1):
        send(live, app_id, number, user="tablet", screen="Live", account=account)
    made, in_memory = kept.of(app_id), studies_in(engine, tmp_path / "other").of(app_id)
    assert (made.shelved, in_memory.shelved) == (True, False)
    assert tabs(made) == tabs(in_memory)
    send(live, app_id, 3, user="tablet", screen="Earlier", time="2026-05-29T09:00:00Z")
    assert kept.of(app_id) is made
    until(lambda: kept.of(app_id).rows == len(demo_log) + 3)
    assert kept.of(app_id) is not made
    folders = tmp_path / "replays", tmp_path / "parts"
    assert [len(list(folder.glob("app-*"))) for folder in folders] == [2, 2]
    assert tabs(made) != tabs(kept.of(app_id))
    del made
    gc.collect()
    assert [len(list(folder.glob("app-*"))) for folder in folders] == [1, 1]


def persons(study: Study) -> int:
    return sum(own.many for own in study.users)


def tabs(study: Study) -> Measured:
    return measured(study, Scope(), "tabs", by="platform")
