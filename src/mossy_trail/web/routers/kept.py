"""What people keep: funnels, segments and patterns of their own."""

from __future__ import annotations

from typing import Any, Literal

from fastapi import APIRouter
from pydantic import ValidationError
from sqlalchemy import select
from sqlalchemy.orm import Session

from mossy_trail.engine import patterns, segments
from mossy_trail.engine.funnel_spec import FunnelSpec
from mossy_trail.store.models import App, Kept
from mossy_trail.web.context import Author, Database, TheApp, TheStudy
from mossy_trail.web.problems import ProblemError
from mossy_trail.web.schemas import KeptView, NewKept, NewName

router = APIRouter(prefix="/api/apps/{app}/kept/{kind}", tags=["kept"])

Kind = Literal["funnel", "segment", "pattern"]


@router.get("")
def list_kept(app: TheApp, kind: Kind, session: Database) -> list[KeptView]:
    query = select(Kept).where(Kept.app_id == app.id, Kept.kind == kind).order_by(Kept.name)
    return [_view(one) for one in session.scalars(query)]


@router.put("")
def keep(
    app: TheApp, kind: Kind, new: NewKept, study: TheStudy, session: Database, author: Author
) -> KeptView:
    """Keep it under this name; what had the name before is replaced."""
    _check(study, kind, new.document)
    known = _named(session, app, kind, new.name)
    one = known or Kept(app_id=app.id, kind=kind, name=new.name)
    one.document, one.author = new.document, author
    session.add(one)
    session.flush()
    return _view(one)


@router.put("/{number}/name")
def rename(app: TheApp, kind: Kind, number: int, new: NewName, session: Database) -> KeptView:
    """Keep it under another name, that nothing else has."""
    known = _known(session, app, kind, number)
    other = _named(session, app, kind, new.name)
    if other and other is not known:
        raise ProblemError(409, "That name is taken.", "Choose another one.")
    known.name = new.name
    session.flush()
    return _view(known)


@router.delete("/{number}", status_code=204)
def forget(app: TheApp, kind: Kind, number: int, session: Database) -> None:
    session.delete(_known(session, app, kind, number))


def _known(session: Session, app: App, kind: str, number: int) -> Kept:
    known = session.get(Kept, number) if number < 1 << 31 else None
    if known is None or (known.app_id, known.kind) != (app.id, kind):
        raise ProblemError(404, "That is kept no more.", "Choose one that is listed.")
    return known


def _named(session: Session, app: App, kind: str, name: str) -> Kept | None:
    query = select(Kept).where(Kept.app_id == app.id, Kept.kind == kind, Kept.name == name)
    return session.scalars(query).one_or_none()


def _check(study: Any, kind: str, document: dict[str, Any]) -> None:
    if kind == "segment":
        segments.find(study, document)
        return
    if kind == "pattern":
        patterns.words_of(study, str(document.get("pattern", "")))
        return
    try:
        FunnelSpec.model_validate(document)
    except ValidationError as error:
        first = error.errors()[0]
        raise ProblemError(422, f"{'.'.join(map(str, first['loc']))}: {first['msg']}") from None


def _view(one: Kept) -> KeptView:
    return KeptView(id=one.id, name=one.name, document=one.document, author=one.author)
