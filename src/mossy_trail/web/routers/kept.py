"""What people keep: funnels and segments of their own."""

from __future__ import annotations

from typing import Any, Literal

from fastapi import APIRouter
from pydantic import ValidationError
from sqlalchemy import select
from sqlalchemy.orm import Session

from mossy_trail.engine import segments
from mossy_trail.store.models import App, Kept
from mossy_trail.web.context import Database, TheApp, TheStudy
from mossy_trail.web.problems import ProblemError
from mossy_trail.web.schemas import FunnelSpec, KeptView, NewKept

router = APIRouter(prefix="/api/apps/{app}/kept/{kind}", tags=["kept"])

Kind = Literal["funnel", "segment"]


@router.get("")
def list_kept(app: TheApp, kind: Kind, session: Database) -> list[KeptView]:
    query = select(Kept).where(Kept.app_id == app.id, Kept.kind == kind).order_by(Kept.name)
    return [_view(one) for one in session.scalars(query)]


@router.put("")
def keep(app: TheApp, kind: Kind, new: NewKept, study: TheStudy, session: Database) -> KeptView:
    """Keep it under this name; what had the name before is replaced."""
    _check(study, kind, new.document)
    known = _named(session, app, kind, new.name)
    one = known or Kept(app_id=app.id, kind=kind, name=new.name)
    one.document = new.document
    session.add(one)
    session.flush()
    return _view(one)


@router.delete("/{name}", status_code=204)
def forget(app: TheApp, kind: Kind, name: str, session: Database) -> None:
    known = _named(session, app, kind, name)
    if known is None:
        raise ProblemError(404, "Nothing of this name is kept.", "Choose one that is listed.")
    session.delete(known)


def _named(session: Session, app: App, kind: str, name: str) -> Kept | None:
    query = select(Kept).where(Kept.app_id == app.id, Kept.kind == kind, Kept.name == name)
    return session.scalars(query).one_or_none()


def _check(study: Any, kind: str, document: dict[str, Any]) -> None:
    if kind == "segment":
        segments.find(study, document)
        return
    try:
        FunnelSpec.model_validate(document)
    except ValidationError as error:
        first = error.errors()[0]
        raise ProblemError(422, f"{'.'.join(map(str, first['loc']))}: {first['msg']}") from None


def _view(one: Kept) -> KeptView:
    return KeptView(id=one.id, name=one.name, document=one.document)
