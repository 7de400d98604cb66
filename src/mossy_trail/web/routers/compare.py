"""Two groups held against each other, in all figures of all measures."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query
from sqlalchemy import select
from sqlalchemy.orm import Session

from mossy_trail.engine.compare import Comparison, Sides, compare
from mossy_trail.engine.rates import Asked
from mossy_trail.store.models import App, Kept
from mossy_trail.web.context import By, Database, TheApp, TheScope, TheStudy
from mossy_trail.web.problems import ProblemError

router = APIRouter(prefix="/api/apps/{app}", tags=["compare"])


@router.get("/compare")
def read_comparison(
    app: TheApp,
    study: TheStudy,
    scope: TheScope,
    session: Database,
    one: Annotated[str, Query(max_length=8000, description="A value, or a segment as JSON")],
    other: Annotated[
        str, Query(max_length=8000, description="The same; empty for all others")
    ] = "",
    by: By = "",
) -> Comparison:
    """Every share and time of all measures for both groups, and what is beyond chance."""
    kept = kept_of(session, app)
    session.commit()  # the answer may take long, and needs the database no more
    try:
        return compare(study, scope, Sides(one, other, by), kept)
    except KeyError as error:
        raise ProblemError(
            404, f"There is no “{error.args[0]}” among the groups.", "Choose one that the log has."
        ) from None


def kept_of(session: Session, app: App) -> list[Asked]:
    """The funnels and patterns that were kept for an app."""
    rows = session.scalars(select(Kept).where(Kept.app_id == app.id).order_by(Kept.id))
    return [asked for asked in map(_asked, rows) if asked]


def _asked(one: Kept) -> Asked | None:
    if one.kind == "funnel":
        return Asked.of_funnel(one.document, one.name)
    if one.kind == "pattern":
        return Asked("patterns", {"pattern": str(one.document.get("pattern", ""))}, one.name)
    return None
