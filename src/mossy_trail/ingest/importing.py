"""Imports as jobs: one at a time, with progress, cancel and another try."""

from __future__ import annotations

import time
from collections import Counter, deque
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import asdict, dataclass, replace
from functools import partial
from pathlib import Path
from queue import SimpleQueue
from threading import Thread
from typing import TypeVar

import psycopg
import structlog
from sqlalchemy import Engine, select, update
from sqlalchemy.exc import OperationalError, SQLAlchemyError
from sqlalchemy.orm import Session

from mossy_trail.core.model.log import Column, Log
from mossy_trail.intake.errors import UnusableFile
from mossy_trail.intake.mapping import Mapping
from mossy_trail.intake.reader import (
    Input,
    KeptFile,
    LogFile,
    Looked,
    Preview,
    Progress,
    Reading,
    Watcher,
    glance,
    look,
    preview,
    read_log,
)
from mossy_trail.intake.records import Block
from mossy_trail.store.live import kept_lines
from mossy_trail.store.logs import (
    ChangedMeanwhile,
    LogWriter,
    file_key,
    kept_blocks,
    log_writer,
    packed,
)
from mossy_trail.store.models import UNDER_WAY, Job, SavedMapping, StoredLog

Result = TypeVar("Result")
_note = structlog.get_logger()
_FAULT = "The import broke off by a fault of the tool, which its log tells under import {}."


class Cancelled(Exception):
    """The person stopped the import."""


@dataclass(frozen=True)
class JobProgress:
    """How far an import is; counts are of rows."""

    state: str
    bytes_read: int = 0
    bytes_total: int = 0
    rows: int = 0
    set_aside: int = 0
    stored: int = 0


class Importer:
    """Runs import jobs on one thread. Columns are hashed with the `key`.

    When a log is stored, `hand_over` is called with its id and rows, which are not held any
    longer here; then `on_landed` with its app.
    """

    def __init__(
        self,
        engine: Engine,
        uploads: Path,
        key: bytes,
        hand_over: Callable[[int, Log], None],
        on_landed: Callable[[int], None],
    ) -> None:
        self.engine, self._uploads, self._key = engine, uploads, key
        self._hand_over, self._on_landed = hand_over, on_landed
        self._queue: SimpleQueue[int | None] = SimpleQueue()
        self._progress: dict[int, JobProgress] = {}
        self._cancelled: set[int] = set()
        self._looked: tuple[int, int, Looked] | None = None
        self._thread = Thread(target=self._work, name="importer", daemon=True)

    def start(self) -> None:
        """Say of every import that was under way when the server ended that it was interrupted."""
        with Session(self.engine) as session, session.begin():
            session.execute(
                update(Job)
                .where(Job.state.in_(UNDER_WAY))
                .values(
                    state="interrupted",
                    message="The server stopped before this import was through.",
                    mend="Nothing of it was kept. Try it again.",
                )
            )
            known = {f.get("upload") for files in session.scalars(select(Job.files)) for f in files}
        for path in self._uploads.iterdir():
            if path.name not in known:
                path.unlink()  # half of one, that was being sent when the server ended
        self._thread.start()

    def stop(self) -> None:
        """Let go; an import that is under way ends with the process, and is interrupted."""
        self._queue.put(None)

    def take_in(self, job_id: int) -> None:
        """Import uploaded files at once if it is clear how to read them; else leave them asking.

        It is clear when a file's columns are named as the fields are, or when a file of its shape
        has been brought into the app before.
        """
        self._looked = None
        try:
            state = self._asks_or_waits(job_id)
        except OperationalError:
            # Nobody would take it up again: it is said to be interrupted, when that can be written.
            said = (job_id, "interrupted", "The database was gone.", "Try it again.")
            Thread(target=self._end, args=said, daemon=True).start()
            raise
        if state == "waiting":
            self.submit(job_id)

    def _asks_or_waits(self, job_id: int) -> str:
        with Session(self.engine) as session, session.begin():
            job = session.get_one(Job, job_id)
            try:
                job.state = "asking" if self.question(session, job) else "waiting"
            except UnusableFile as error:
                job.state, job.mend = "failed", error.mend
                job.message = f"{error.file}: {error.what}"
            except Exception:
                _note.exception("a file could not be looked at", job=job_id)
                job.state, job.mend = "failed", "Nothing of it was kept."
                job.message = _FAULT.format(job_id)
            return job.state

    def question(
        self, session: Session, job: Job, mapping: Mapping | None = None
    ) -> Preview | None:
        """The first file of which it is not clear how to read it, read by this mapping.

        Without one it is read as it was before, or as its first rows propose.
        """
        for number, given in enumerate(self._inputs(job)):
            shape, exact = glance(given)
            known: object = shape in job.mappings or (
                not job.anew and (exact or session.get(SavedMapping, (job.app_id, shape)))
            )
            if not known:
                before = [file["mapping"] for file in job.files if file.get("shape") == shape]
                mapping = mapping or (Mapping.of(before[0]) if before else None)
                return preview(self._looked_at(job.id, number, given), mapping)
        return None

    def _looked_at(self, job_id: int, number: int, given: Input) -> Looked:
        """The file as it was looked at: kept while it is asked about, as each choice asks anew."""
        if self._looked is None or self._looked[:2] != (job_id, number):
            self._looked = (job_id, number, look(given))
        return self._looked[2]

    def read_as(self, job_id: int, mapping: Mapping) -> None:
        """Read the file that is asked about by this mapping, and later ones of its shape too."""
        with Session(self.engine) as session, session.begin():
            job = session.get_one(Job, job_id)
            asked = self.question(session, job)
            if asked:
                chosen = asdict(mapping)
                job.mappings = {**job.mappings, asked.shape: chosen}
                session.merge(SavedMapping(app_id=job.app_id, shape=asked.shape, mapping=chosen))
        self.take_in(job_id)

    def read_anew(self, log_id: int, file: int) -> int:
        """A job that asks how a log's file is to be read, and then reads the whole log so."""
        with Session(self.engine) as session, session.begin():
            log = session.get_one(StoredLog, log_id)
            shape = log.files[file]["shape"]
            others = {f["shape"]: f["mapping"] for f in log.files if f["shape"] != shape}
            job = Job(
                app_id=log.app_id,
                files=log.files,
                state="asking",
                mappings=others,
                anew=True,
                log_id=log_id,
            )
            session.add(job)
            session.flush()
            return job.id

    def submit(self, job_id: int) -> None:
        self._cancelled.discard(job_id)
        self._progress[job_id] = JobProgress("waiting")
        self._queue.put(job_id)

    def cancel(self, job_id: int) -> None:
        """Stop an import: at its next step if it is under way, else at once."""
        self._cancelled.add(job_id)
        if job_id not in self._progress:
            with Session(self.engine) as session, session.begin():
                job = session.get(Job, job_id, with_for_update=True)
                if job and job.state in UNDER_WAY:
                    job.state, job.message = "cancelled", "The import was stopped."
                    job.mend = "Nothing of it was kept."

    def progress(self, job_id: int) -> JobProgress | None:
        """How far a job of this process is; None when it is not under way."""
        return self._progress.get(job_id)

    def upload_path(self, name: str) -> Path:
        return self._uploads / name

    def forget_uploads(self, job: Job) -> None:
        for file in job.files:
            if "upload" in file:
                self.upload_path(file["upload"]).unlink(missing_ok=True)

    def holds_uploads(self, job: Job) -> bool:
        return any(self.upload_path(f["upload"]).exists() for f in job.files if "upload" in f)

    def whole(self, job: Job) -> bool:
        """Whether all that the job reads is here."""
        paths = [(self.upload_path(f["upload"]), f["bytes"]) for f in job.files if "upload" in f]
        return all(path.exists() and path.stat().st_size == size for path, size in paths)

    def _inputs(self, job: Job) -> list[Input]:
        if not job.anew:
            return [LogFile(self.upload_path(file["upload"]), file["name"]) for file in job.files]
        with Session(self.engine) as session:
            log = session.get(StoredLog, job.log_id) if job.log_id else None
        if log is None:
            raise ChangedMeanwhile
        if log.live:
            return [KeptFile(log.files[0], 0, partial(kept_lines, self.engine, log.id))]
        return [
            KeptFile(file, file["bytes"], partial(kept_blocks, self.engine, log.id, number))
            for number, file in enumerate(job.files)
        ]

    def _work(self) -> None:
        while (job_id := self._queue.get()) is not None:
            try:
                self._run(job_id)
            except Exception:
                _note.exception("import broke", job=job_id)
            finally:
                self._progress.pop(job_id, None)

    def _run(self, job_id: int) -> None:
        try:
            with Session(self.engine, expire_on_commit=False) as session:
                job = session.get_one(Job, job_id)
            self._import(job)
        except Cancelled:
            self._end(job_id, "cancelled", "The import was stopped.", "Nothing of it was kept.")
        except UnusableFile as error:
            self._end(job_id, "failed", f"{error.file}: {error.what}", error.mend)
        except ChangedMeanwhile:
            message = "The log was changed or deleted while it was read anew."
            self._end(job_id, "failed", message, "It is as that change left it.")
        except (SQLAlchemyError, psycopg.Error, OSError, MemoryError) as error:
            _note.warning("import broke off", job=job_id, error=str(error)[:300])
            message = f"The import broke off: {type(error).__name__}."
            self._end(job_id, "failed", message, "Nothing of it was kept. Try it again.")
        except Exception:
            _note.exception("import failed", job=job_id)
            self._end(job_id, "failed", _FAULT.format(job_id), "Nothing of it was kept.")
        else:
            self.forget_uploads(job)
            self._cancelled.discard(job_id)
            self._set(job_id, state="replaying")
            self._on_landed(job.app_id)

    def _import(self, job: Job) -> None:
        """Read and store in one transaction, which also says that the job is done."""
        self._set(job.id, state="reading")
        with Session(self.engine) as session:
            saved = select(SavedMapping).where(SavedMapping.app_id == job.app_id)
            known = {one.shape: one.mapping for one in session.scalars(saved)} | job.mappings

        def mapping_of(shape: str) -> Mapping | None:
            return Mapping.of(known[shape]) if shape in known else None

        with (
            log_writer(self.engine, job.log_id if job.anew else None) as writer,
            _Behind() as behind,
        ):
            watcher = _Storing(self, job, writer, behind)
            reading = read_log(self._inputs(job), mapping_of, watcher, self._key)
            behind.catch_up()
            self._set(job.id, state="storing")
            self._finish(writer, job, reading)
        reading.log.terms["file"][:] = [
            file_key(writer.log_id, number) for number in range(len(reading.files))
        ]
        self._hand_over(writer.log_id, reading.log)

    def _finish(self, writer: LogWriter, job: Job, reading: Reading) -> None:
        rows = ((row.file, row.line, row.reason, row.text) for row in reading.set_aside)
        writer.add_set_aside(rows)
        writer.add_terms(reading.log.terms)
        files = [
            {**read, "bytes": given["bytes"]}
            for read, given in zip(reading.files, job.files, strict=True)
        ]
        reasons = Counter(row.reason for row in reading.set_aside)
        last_line = max((row.line for row in reading.set_aside), default=0)
        last_line = max(last_line, int(reading.log.columns["line"].max(initial=0)))
        writer.attach(job.app_id, files, reading.log, reasons, last_line)
        writer.finish_job(job.id)

    def _set(self, job_id: int, **changes: int | str) -> None:
        if job_id in self._cancelled:
            raise Cancelled
        now = self._progress.get(job_id, JobProgress("waiting"))
        self._progress[job_id] = replace(now, **changes)  # type: ignore[arg-type]

    def _end(self, job_id: int, state: str, message: str, mend: str) -> None:
        """Say how an import ended; waits for the database, if that is why it did.

        A job may be done although its commit was never confirmed. It stays so.
        """
        unless_done = update(Job).where(Job.id == job_id, Job.state != "done")
        while True:
            try:
                with Session(self.engine) as session, session.begin():
                    session.execute(unless_done.values(state=state, message=message, mend=mend))
                return
            except OperationalError:
                time.sleep(1)


class _Behind:
    """Does what it is given on a thread of its own, in order, and only a little later."""

    MOST = 4

    def __init__(self) -> None:
        self._pool = ThreadPoolExecutor(1, "storing")
        self._aside = ThreadPoolExecutor(1, "packing")
        self._pending: deque[Future[None]] = deque()

    def __enter__(self) -> _Behind:
        return self

    def __exit__(self, *_: object) -> None:
        self._pool.shutdown(cancel_futures=True)
        self._aside.shutdown(cancel_futures=True)

    def aside(self, work: Callable[[], Result]) -> Future[Result]:
        """Prepare something that later work waits for."""
        return self._aside.submit(work)

    def do(self, work: Callable[[], None]) -> None:
        """Give it work; waits where it has fallen behind, and raises what earlier work raised."""
        while len(self._pending) >= self.MOST:
            self._pending.popleft().result()
        self._pending.append(self._pool.submit(work))

    def catch_up(self) -> None:
        while self._pending:
            self._pending.popleft().result()


class _Storing(Watcher):
    """Stores what is read while the reading goes on."""

    def __init__(self, importer: Importer, job: Job, writer: LogWriter, behind: _Behind) -> None:
        self._set = partial(importer._set, job.id)
        self._keep, self._writer, self._behind = not job.anew, writer, behind
        self._stored = 0

    def on_block(self, file: int, block: Block) -> None:
        if self._keep:
            kept = self._behind.aside(lambda: [packed(*piece) for piece in block.pieces()])
            self._behind.do(lambda: self._writer.add_blocks(file, kept.result()))

    def on_rows(self, columns: dict[str, Column]) -> None:
        self._behind.do(lambda: self._store(columns))

    def _store(self, columns: dict[str, Column]) -> None:
        self._writer.add_rows(columns)
        self._stored += len(columns["time"])
        self._set(stored=self._stored)

    def on_progress(self, progress: Progress) -> None:
        self._set(
            bytes_read=progress.bytes_read,
            bytes_total=progress.bytes_total,
            rows=progress.rows,
            set_aside=progress.set_aside,
        )
