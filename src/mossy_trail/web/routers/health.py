"""The health of an app's logs, the rows behind each finding, and erasing a user."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from typing import Annotated

from fastapi import APIRouter, Query
from sqlalchemy import select

from mossy_trail.engine import health
from mossy_trail.ingest.raw_rows import RawRows
from mossy_trail.intake.reader import without_records
from mossy_trail.store.erasure import erase_user
from mossy_trail.store.models import Job, StoredLog
from mossy_trail.web.context import Database, Here, TheApp, TheStudy
from mossy_trail.web.problems import ProblemError
from mossy_trail.web.schemas import ErasedView, HealthRows, HealthView, ReasonCount

router = APIRouter(prefix="/api/apps/{app}", tags=["health"])


@router.get("/health")
def read_health(app: TheApp, study: TheStudy) -> HealthView:
    """What became of every row of the app's logs, and what about them is odd."""
    return HealthView(
        **health.measure(study),
        set_aside=_set_aside(app.logs),
        duplicates=sum(log.duplicates for log in app.logs),
    )


def _set_aside(logs: Sequence[StoredLog]) -> list[ReasonCount]:
    """Rows of all logs that were set aside by reason, the most first."""
    found = sum((Counter(log.reasons) for log in logs), Counter[str]())
    return [ReasonCount(reason=reason, rows=rows) for reason, rows in found.most_common()]


@router.get("/health/{finding}")
def list_rows(
    finding: str,
    study: TheStudy,
    session: Database,
    offset: Annotated[int, Query(ge=0)] = 0,
    limit: Annotated[int, Query(ge=1, le=200)] = 50,
) -> HealthRows:
    """The rows that a finding counts, as they came."""
    try:
        total, rows = health.evidence(study, finding, offset, limit)
    except KeyError:
        raise ProblemError(404, "There is no such finding.", "Open it from its page.") from None
    raw = RawRows(session)
    shown = [
        {**row, "file": raw.name(row["file"]), "raw": raw.text(row["file"], row["line"])}
        for row in rows
    ]
    return HealthRows(total=total, rows=shown)  # type: ignore[arg-type]


@router.delete("/users")
def erase(
    app: TheApp,
    user: Annotated[str, Query(min_length=1, max_length=2000)],
    here: Here,
    session: Database,
) -> ErasedView:
    """Erase all that the app's logs hold of a user, to the bytes that were kept. For good."""
    erased = erase_user(here.engine, app.id, user, without_records)
    if not erased.logs:
        raise ProblemError(404, "No row of this app names that user.", "Write the id as it came.")
    here.studies.of(app.id)
    jobs = session.scalars(select(Job).where(Job.app_id == app.id, Job.state != "done"))
    held = sum(here.importer.holds_uploads(job) for job in jobs)
    return ErasedView(**erased._asdict(), not_landed=held)
