"""Apps under study, and how much of each is in scope."""

from __future__ import annotations

import re
from dataclasses import replace

from fastapi import APIRouter, Request
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from mossy_trail.core.model.steps import count_users
from mossy_trail.engine.scoped import scope_mask
from mossy_trail.store.models import App, StoredLog
from mossy_trail.store.team import ROLES
from mossy_trail.web.context import Database, TheScope, TheStudy, TheVisitor, milliseconds
from mossy_trail.web.problems import ProblemError
from mossy_trail.web.schemas import AppSummary, NewApp, ScopeCounts

router = APIRouter(prefix="/api/apps", tags=["apps"])


@router.get("")
def list_apps(session: Database, visitor: TheVisitor) -> list[AppSummary]:
    """Those that whoever asks has a role in."""
    apps = session.scalars(select(App).order_by(App.id)).all()
    roles = visitor.roles if visitor else dict.fromkeys((app.id for app in apps), ROLES[-1])
    return [_summary(session, app, roles[app.id]) for app in apps if app.id in roles]


@router.post("", status_code=201)
def create_app(new: NewApp, request: Request, session: Database) -> AppSummary:
    name = new.name.strip()
    if not name:
        raise ProblemError(422, "An app needs a name.", "Give it the name that you call it by.")
    app = App(key=_free_key(session, name), name=name)
    session.add(app)
    session.flush()
    request.state.what = name
    return _summary(session, app, ROLES[-1])


def _free_key(session: Session, name: str) -> str:
    """The name in plain letters for addresses; numbered where another app has it."""
    base = re.sub(r"[^a-z0-9]+", "-", name.casefold()).strip("-")[:60] or "app"
    taken = set(session.scalars(select(App.key).where(App.key.startswith(base, autoescape=True))))
    keys = [base, *(f"{base}-{n}" for n in range(2, len(taken) + 3))]
    return next(key for key in keys if key not in taken)


def _summary(session: Session, app: App, role: str) -> AppSummary:
    of_app = StoredLog.app_id == app.id
    totals = select(
        func.count(),
        func.coalesce(func.sum(StoredLog.rows), 0),
        func.min(StoredLog.first_time),
        func.max(StoredLog.last_time),
    )
    document = app.maps[-1].document if app.maps else {}
    logs, rows, first, last = session.execute(totals.where(of_app)).one()
    return AppSummary(
        key=app.key,
        name=app.name,
        logs=logs,
        rows=rows,
        first=milliseconds(first) if first else None,
        last=milliseconds(last) if last else None,
        map=app.maps[-1].version if app.maps else None,
        tabs=[tab["name"] for tab in document.get("tabs", ()) if tab.get("kind") != "filter"],
        screens=len(document.get("screens", ())),
        live=app.ingest_key is not None,
        role=role,
    )


@router.get("/{app}/scope")
def read_scope(study: TheStudy, scope: TheScope) -> ScopeCounts:
    """How many journeys and users are in scope."""
    mask = scope_mask(study, scope)
    return ScopeCounts(
        journeys=int(mask.sum()),
        users=count_users(study.index.user[mask]),
        odd_clocks=int(scope_mask(study, replace(scope, odd_clocks=True)).sum()),
        version=study.version,
    )
