"""Logs of an app, and what became of their rows."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from typing import Annotated

from fastapi import APIRouter, Query
from fastapi.responses import StreamingResponse
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from mossy_trail.engine.export import harmless
from mossy_trail.store.logs import drop_log
from mossy_trail.store.models import Job, SetAsideRow, StoredLog
from mossy_trail.web.contents import TEXT, answers
from mossy_trail.web.context import Context, Database, Here, TheApp, milliseconds
from mossy_trail.web.problems import ProblemError
from mossy_trail.web.routers.imports import job_view
from mossy_trail.web.schemas import Fates, Logs, LogSummary, SetAsidePage, SetAsideView, ShapeView

router = APIRouter(prefix="/api", tags=["logs"])


@router.get("/apps/{app}/logs")
def list_logs(app: TheApp, here: Here, session: Database) -> Logs:
    # Jobs are read first: one that lands meanwhile is then shown as well as its log, never neither.
    unfinished = select(Job).where(Job.app_id == app.id, Job.state != "done")
    jobs = [job_view(here, job) for job in session.scalars(unfinished.order_by(Job.id.desc()))]
    logs = [_log_summary(log) for log in reversed(app.logs)]
    fates = Fates(**here.studies.of(app.id).fates())
    return Logs(logs=logs, jobs=jobs, fates=fates, has_key=app.ingest_key is not None)


def _log_summary(log: StoredLog) -> LogSummary:
    return LogSummary(
        id=log.id,
        files=[file["name"] for file in log.files],
        shapes=_shapes(log),
        live=log.live,
        waiting=log.received - log.through if log.live else 0,
        duplicates=log.duplicates,
        rows_read=log.rows + log.set_aside,
        rows=log.rows,
        set_aside=log.set_aside,
        reasons=log.reasons,
        users=log.users,
        first=milliseconds(log.first_time) if log.first_time else None,
        last=milliseconds(log.last_time) if log.last_time else None,
        created=milliseconds(log.created_at),
    )


def _shapes(log: StoredLog) -> list[ShapeView]:
    first: dict[str, ShapeView] = {}
    for number, file in enumerate(log.files):
        if "shape" in file:
            first.setdefault(file["shape"], ShapeView(file=number, name=file["name"]))
    return list(first.values())


@router.delete("/logs/{log_id}", status_code=204)
def delete_log(log_id: int, here: Here) -> None:
    drop_log(here.engine, log_id)


@router.get("/logs/{log_id}/set-aside")
def list_set_aside(
    log_id: int,
    session: Database,
    reason: str = "",
    offset: Annotated[int, Query(ge=0)] = 0,
    limit: Annotated[int, Query(ge=1, le=500)] = 100,
) -> SetAsidePage:
    log = _get_log(session, log_id)
    query = select(SetAsideRow).where(SetAsideRow.log_id == log_id)
    if reason:
        query = query.where(SetAsideRow.reason == reason)
    total = session.scalar(select(func.count()).select_from(query.subquery()))
    ordered = query.order_by(SetAsideRow.file, SetAsideRow.line).offset(offset).limit(limit)
    rows = [_set_aside_view(log, row) for row in session.scalars(ordered)]
    return SetAsidePage(total=total or 0, rows=rows)


def _get_log(session: Session, log_id: int) -> StoredLog:
    log = session.get(StoredLog, log_id)
    if log is None:
        raise ProblemError(404, "There is no such log.", "Look at the list of logs.")
    return log


def _set_aside_view(log: StoredLog, row: SetAsideRow) -> SetAsideView:
    name = log.files[row.file]["name"]
    return SetAsideView(file=name, line=row.line, reason=row.reason, text=row.text)


@router.get(
    "/logs/{log_id}/set-aside.csv",
    response_class=StreamingResponse,
    responses=answers(**{"text/csv": TEXT}),
)
def download_set_aside(log_id: int, here: Here, session: Database) -> StreamingResponse:
    """Every row set aside, with its file, line and reason."""
    files = [file["name"] for file in _get_log(session, log_id).files]
    headers = {"Content-Disposition": f'attachment; filename="set-aside-{log_id}.csv"'}
    return StreamingResponse(_csv(here, log_id, files), media_type="text/csv", headers=headers)


def _csv(here: Context, log_id: int, files: list[str]) -> Iterator[str]:
    buffer = io.StringIO()
    writer = csv.writer(buffer)
    writer.writerow(["file", "line", "reason", "text"])
    with Session(here.engine) as session:
        query = select(SetAsideRow).where(SetAsideRow.log_id == log_id)
        ordered = query.order_by(SetAsideRow.file, SetAsideRow.line)
        for row in session.scalars(ordered.execution_options(yield_per=1000)):
            cells: list[str | int] = [files[row.file], row.line, row.reason, row.text]
            writer.writerow([harmless(cell) for cell in cells])
            yield buffer.getvalue()
            buffer.seek(0)
            buffer.truncate()
    yield buffer.getvalue()
