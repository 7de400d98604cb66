"""Imports: uploading files, following the job, and saying how a file is to be read."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from dataclasses import asdict
from pathlib import Path
from typing import Annotated, Any, Literal
from uuid import uuid4

import anyio
from fastapi import APIRouter, Query, Request
from sqlalchemy import select
from sqlalchemy.orm import Session
from sse_starlette import EventSourceResponse
from starlette.requests import ClientDisconnect

from mossy_trail.engine.trial import FIGURES, Trial, try_out
from mossy_trail.intake.app_map_file import map_of
from mossy_trail.intake.errors import UnusableFile
from mossy_trail.intake.mapping import Mapping
from mossy_trail.intake.reader import Preview
from mossy_trail.store.models import AppMapVersion, Job, StoredLog
from mossy_trail.web.contents import BYTES, takes
from mossy_trail.web.context import Context, Database, Here, TheApp, milliseconds
from mossy_trail.web.problems import ProblemError
from mossy_trail.web.schemas import (
    JobView,
    MappingBody,
    MappingPreview,
    NewImport,
    OpenedCount,
    SetAsideView,
)

router = APIRouter(prefix="/api", tags=["imports"])

LARGEST_UPLOAD = 20 << 30
FINAL = ("done", "failed", "cancelled", "interrupted")
AT_REST = (*FINAL, "asking")
_PAUSE = 0.15
_PIECE = 1 << 20


def job_view(here: Context, job: Job) -> JobView:
    progress = here.importer.progress(job.id)
    view = JobView(
        id=job.id,
        files=[file["name"] for file in job.files],
        bytes=sum(file["bytes"] for file in job.files),
        state=job.state,  # type: ignore[arg-type]
        message=job.message,
        mend=job.mend,
        anew=job.anew,
        log_id=job.log_id,
        created=milliseconds(job.created_at),
        can_retry=job.state in FINAL[1:] and here.importer.whole(job),
    )
    if progress is None:
        return view
    return view.model_copy(
        update={
            "state": progress.state,
            "bytes_read": progress.bytes_read,
            "rows": progress.rows,
            "set_aside": progress.set_aside,
            "stored": progress.stored,
        }
    )


@router.post("/apps/{app}/imports", status_code=201)
def begin_import(
    app: TheApp, new: NewImport, here: Here, session: Database, request: Request
) -> JobView:
    """Begin to bring in one or more files as one log. Their bytes follow, file by file."""
    size = sum(file.bytes for file in new.files)
    if size > LARGEST_UPLOAD:
        raise ProblemError(
            413,
            f"Together they are larger than {LARGEST_UPLOAD >> 30} GB.",
            "Bring a part at a time.",
        )
    files = [{"name": f.name, "bytes": f.bytes, "upload": uuid4().hex} for f in new.files]
    request.state.what = ", ".join(file.name for file in new.files)[:300]
    job = Job(app_id=app.id, files=files, state="uploading")
    session.add(job)
    session.flush()
    session.refresh(job)
    return job_view(here, job)


@router.put(
    "/jobs/{job_id}/files/{number}", openapi_extra=takes(**{"application/octet-stream": BYTES})
)
async def upload_file(job_id: int, number: int, request: Request) -> JobView:
    """The body is the file itself, streamed to disk. With the last one the import begins."""
    here: Context = request.app.state.context
    name, expected = await asyncio.to_thread(_upload_of, here, job_id, number)
    # Written apart, so that two who send the same file do not write into each other's.
    path = here.importer.upload_path(f"{name}.{uuid4().hex}")
    received = 0
    try:
        async with await anyio.open_file(path, "wb") as target:
            async for piece in _in_large_pieces(request):
                received += len(piece)
                if received > expected:
                    break
                await target.write(piece)
    except ClientDisconnect:
        received = -1
    return await asyncio.to_thread(_uploaded, here, job_id, number, path, received == expected)


async def _in_large_pieces(request: Request) -> AsyncIterator[bytes]:
    """The body as it comes, but that each piece goes to another thread, which small ones would do
    ten thousand times in a gigabyte."""
    gathered = bytearray()
    async for chunk in request.stream():
        gathered += chunk
        if len(gathered) >= _PIECE:
            yield bytes(gathered)
            gathered.clear()
    yield bytes(gathered)


def _upload_of(here: Context, job_id: int, number: int) -> tuple[str, int]:
    with Session(here.engine) as session:
        own = _awaited(_get_job(session, job_id), number)
        return own["upload"], own["bytes"]


def _awaited(job: Job, number: int) -> dict[str, Any]:
    if job.state not in ("uploading", "interrupted") or not 0 <= number < len(job.files):
        raise ProblemError(409, "This import awaits no such file.", "Begin another.")
    own: dict[str, Any] = job.files[number]
    return own


def _uploaded(here: Context, job_id: int, number: int, path: Path, whole: bool) -> JobView:
    """What was sent takes the file's place, if it is still awaited."""
    try:
        begin = _put_in_place(here, job_id, number, path, whole)
    finally:
        path.unlink(missing_ok=True)
    if begin:
        here.importer.take_in(job_id)
    return _read_job(here, job_id)


def _put_in_place(here: Context, job_id: int, number: int, path: Path, whole: bool) -> bool:
    """Whether the import may begin now."""
    with Session(here.engine) as session, session.begin():
        job = _get_job(session, job_id, lock=True)
        own = _awaited(job, number)
        if not whole:
            job.state, job.message = "interrupted", "The upload was cut short."
            job.mend = "Drop the files again."
            return False
        path.replace(here.importer.upload_path(own["upload"]))
        begin = here.importer.whole(job) and job.state == "uploading"
        if begin:
            job.state = "waiting"
        return begin


def _read_job(here: Context, job_id: int) -> JobView:
    with Session(here.engine) as session:
        return job_view(here, _get_job(session, job_id))


def _get_job(session: Session, job_id: int, lock: bool = False) -> Job:
    job = session.get(Job, job_id, with_for_update=lock or None)
    if job is None:
        raise ProblemError(404, "There is no such import.", "Look at the list of logs.")
    return job


@router.get("/jobs/{job_id}")
def read_job(job_id: int, here: Here) -> JobView:
    return _read_job(here, job_id)


@router.get("/jobs/{job_id}/events", response_class=EventSourceResponse)
async def follow_job(job_id: int, here: Here) -> EventSourceResponse:
    """The job whenever it changes, as server-sent events, until it is through."""
    first = await asyncio.to_thread(_read_job, here, job_id)

    async def events() -> AsyncIterator[dict[str, str]]:
        job, sent = first, ""
        while True:
            text = job.model_dump_json()
            if text != sent:
                yield {"data": text}
                sent = text
            if job.state in AT_REST:
                return
            await asyncio.sleep(_PAUSE)
            job = await asyncio.to_thread(_read_job, here, job_id)

    return EventSourceResponse(events())


@router.post("/jobs/{job_id}/retry")
def retry_job(job_id: int, here: Here) -> JobView:
    with Session(here.engine) as session, session.begin():
        job = _get_job(session, job_id, lock=True)
        if not job_view(here, job).can_retry:
            raise ProblemError(
                409,
                "This import cannot be tried again.",
                "Its upload is not whole; drop the files.",
            )
        job.state, job.message, job.mend = "waiting", "", ""
    here.importer.take_in(job_id)
    return _read_job(here, job_id)


@router.get("/jobs/{job_id}/mapping")
def read_mapping(job_id: int, here: Here, session: Database) -> MappingPreview:
    """How the file that is asked about is proposed to be read."""
    return _mapping_preview(here, session, _get_job(session, job_id), None)


@router.post("/jobs/{job_id}/mapping/preview")
def preview_mapping(
    job_id: int, mapping: MappingBody, here: Here, session: Database
) -> MappingPreview:
    """How the file would be read by this mapping. Nothing is kept."""
    return _mapping_preview(here, session, _get_job(session, job_id), _as_mapping(mapping))


@router.post("/jobs/{job_id}/mapping/opened")
def open_count(
    job_id: int,
    figure: Literal[FIGURES],  # type: ignore[valid-type]
    mapping: MappingBody,
    here: Here,
    session: Database,
    limit: Annotated[int, Query(ge=1, le=200)] = 50,
) -> OpenedCount:
    """What is behind a count of the preview: journeys as they will be, or rows set aside."""
    job = _get_job(session, job_id)
    seen = _seen(here, session, job, _as_mapping(mapping))
    trial = _tried(session, job, seen)
    if trial is None:
        raise ProblemError(409, "No row can be read by this mapping.", "Choose what it lacks.")
    total, shown, rows = trial.opened(figure, limit)
    aside = [SetAsideView(file=seen.file, line=r.line, reason=r.reason, text=r.text) for r in rows]
    return OpenedCount(total=total, journeys=shown, rows=aside)  # type: ignore[arg-type]


@router.put("/jobs/{job_id}/mapping")
def choose_mapping(job_id: int, mapping: MappingBody, here: Here) -> JobView:
    """Read the file by this mapping, and every later one of its shape."""
    chosen = _as_mapping(mapping)
    if chosen.missing:
        lacking = " and ".join(chosen.missing)
        raise ProblemError(422, f"No column is chosen for {lacking}.", "Choose one, then go on.")
    with Session(here.engine) as session:
        if _get_job(session, job_id).state != "asking":
            raise ProblemError(409, "This import asks nothing any more.", "Look at its state.")
    here.importer.read_as(job_id, chosen)
    return _read_job(here, job_id)


def _as_mapping(body: MappingBody) -> Mapping:
    return Mapping.of(body.model_dump())


def _mapping_preview(
    here: Context, session: Session, job: Job, mapping: Mapping | None
) -> MappingPreview:
    seen = _seen(here, session, job, mapping)
    trial = _tried(session, job, seen)
    return MappingPreview(
        file=seen.file,
        columns=seen.columns,
        raw=seen.raw,
        read=seen.read,
        mapping=MappingBody(**asdict(seen.mapping)),
        reasons=seen.proposal.reasons,
        missing=seen.mapping.missing,
        words=seen.words,
        doubts=seen.proposal.doubts,
        counts=trial.counts if trial else None,
    )


def _seen(here: Context, session: Session, job: Job, mapping: Mapping | None) -> Preview:
    if not here.importer.whole(job):
        raise ProblemError(409, "The uploaded files are not here any more.", "Drop them again.")
    try:
        seen = here.importer.question(session, job, mapping)
    except UnusableFile as error:
        raise ProblemError(422, f"{error.file}: {error.what}", error.mend) from None
    if seen is None:
        raise ProblemError(409, "This import asks nothing any more.", "Look at its state.")
    return seen


def _tried(session: Session, job: Job, seen: Preview) -> Trial | None:
    newest = session.scalar(
        select(AppMapVersion)
        .where(AppMapVersion.app_id == job.app_id)
        .order_by(AppMapVersion.version.desc())
        .limit(1)
    )
    return try_out(seen.mapping, seen.table, map_of(newest.document) if newest else None)


@router.post("/logs/{log_id}/files/{number}/read-anew", status_code=201)
def read_anew(log_id: int, number: int, here: Here, session: Database) -> JobView:
    """Ask how a file of a log that is in is to be read. The answer reads the whole log anew."""
    log = session.get(StoredLog, log_id)
    if log is None or not 0 <= number < len(log.files) or "mapping" not in log.files[number]:
        raise ProblemError(404, "There is no such file of a log.", "Look at the list of logs.")
    return _read_job(here, here.importer.read_anew(log_id, number))


@router.post("/jobs/{job_id}/cancel")
def cancel_job(job_id: int, here: Here) -> JobView:
    here.importer.cancel(job_id)
    return _read_job(here, job_id)


@router.delete("/jobs/{job_id}", status_code=204)
def dismiss_job(job_id: int, here: Here, session: Database) -> None:
    """Take a job that is through off the list, with its uploads."""
    job = _get_job(session, job_id)
    if job_view(here, job).state not in (*AT_REST, "uploading"):
        raise ProblemError(409, "This import is still under way.", "Stop it first.")
    here.importer.forget_uploads(job)
    session.delete(job)
