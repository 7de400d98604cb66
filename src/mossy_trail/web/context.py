"""What every router works with: the database, the studies and the importer; and the scope."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable, Iterator
from concurrent.futures import Executor
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from pathlib import Path
from typing import Annotated, Literal

from fastapi import Depends, Query, Request
from sqlalchemy import Engine, select
from sqlalchemy.orm import Session

from mossy_trail.core.model.scope import Part, Scope
from mossy_trail.engine.studies import Studies
from mossy_trail.engine.study import Study
from mossy_trail.ingest.importing import Importer
from mossy_trail.ingest.receiver import Receiver
from mossy_trail.intake.installation import installation_key
from mossy_trail.store.models import App
from mossy_trail.store.parts import PartsCache
from mossy_trail.team.team import Visitor
from mossy_trail.web.problems import ProblemError
from mossy_trail.web.schemas import Unit

UPLOADS, PARTS, REPLAYS = "uploads", "parts", "replays"


@dataclass(frozen=True)
class Context:
    engine: Engine
    studies: Studies
    importer: Importer
    live: Receiver
    not_ready: Callable[[], str]
    """What is to be said instead of an answer, while none can be given."""


def new_context(
    engine: Engine,
    data: Path,
    memory: int = 0,
    workers: Executor | None = None,
    not_ready: Callable[[], str] = str,
) -> Context:
    """Everything that serves one data directory.

    Replayed logs take about so much `memory`, in bytes, a third of the machine's where nothing is
    said; `workers` on other machines must reach the directory.
    """
    uploads = data / UPLOADS
    uploads.mkdir(parents=True, exist_ok=True)
    parts = PartsCache(engine, data / PARTS)
    memory = memory or os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES") // 3
    studies = Studies(engine, parts, data / REPLAYS, memory, workers)
    importer = Importer(engine, uploads, installation_key(data), studies.keep, studies.landed)
    return Context(engine, studies, importer, Receiver(engine), not_ready)


def forget_caches(data: Path) -> None:
    """What belongs to a database that is there no more: parts and replays are made anew, and what
    is on its way in is dropped once more."""
    for cache in (UPLOADS, PARTS, REPLAYS):
        shutil.rmtree(data / cache, ignore_errors=True)


def get_context(request: Request) -> Context:
    context: Context = request.app.state.context
    return context


Here = Annotated[Context, Depends(get_context)]


def get_visitor(request: Request) -> Visitor | None:
    """Who asks; nobody in particular where nobody signs in."""
    visitor: Visitor | None = getattr(request.state, "visitor", None)
    return visitor


TheVisitor = Annotated[Visitor | None, Depends(get_visitor)]


def get_author(visitor: TheVisitor) -> str:
    return visitor.name if visitor else ""


Author = Annotated[str, Depends(get_author)]


def get_session(here: Here) -> Iterator[Session]:
    with Session(here.engine) as session, session.begin():
        yield session


Database = Annotated[Session, Depends(get_session, scope="function")]


def get_app(app: str, session: Database) -> App:
    found = session.scalar(select(App).where(App.key == app))
    if found is None:
        raise ProblemError(404, "There is no such app.", "Choose one at the top of the page.")
    return found


TheApp = Annotated[App, Depends(get_app)]


def get_study(app: TheApp, here: Here) -> Study:
    if said := here.not_ready():
        raise ProblemError(503, said, "This takes a minute or two; the page goes on by itself.")
    return here.studies.of(app.id)


TheStudy = Annotated[Study, Depends(get_study)]


def get_scope(
    since: Annotated[date | None, Query(description="First day, in UTC")] = None,
    until: Annotated[date | None, Query(description="Last day, in UTC")] = None,
    unit: Unit = "sessions",
    segment: Annotated[str, Query(description="A segment, as JSON")] = "",
    odd_clocks: Annotated[bool, Query(description="Only those of clocks that are wrong")] = False,
    part: Annotated[str | None, Query(description="Only this one of the groups")] = None,
    part_by: Annotated[str, Query(description="The property whose value it is")] = "",
    part_over: Annotated[Literal["", "day", "week"], Query(description="Or a stretch")] = "",
) -> Scope:
    if since and until and since > until:
        raise ProblemError(422, "The first day is after the last.", "Swap the two dates.")
    before = until + timedelta(days=1) if until and until < date.max else None
    group = None if part is None else Part(part, part_by, part_over)
    return Scope(_midnight(since), _midnight(before), unit, segment, odd_clocks, group)


def get_two(
    one: Annotated[str | None, Query(max_length=2000, description="Of two groups, one")] = None,
    other: Annotated[str | None, Query(max_length=2000, description="And the other")] = None,
) -> tuple[str, str] | None:
    return None if one is None or other is None else (one, other)


TheTwo = Annotated[tuple[str, str] | None, Depends(get_two)]
By = Annotated[str, Query(max_length=300, description="A property, for each of whose values too")]
Over = Annotated[Literal["", "day", "week"], Query(description="For each stretch of time too")]

TheScope = Annotated[Scope, Depends(get_scope)]


def _midnight(day: date | None) -> int | None:
    if day is None:
        return None
    return int(datetime(day.year, day.month, day.day, tzinfo=UTC).timestamp()) * 1_000_000


def milliseconds(moment: datetime) -> int:
    return int(moment.timestamp() * 1000)
