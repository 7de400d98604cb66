"""What stands out, what people keep or dismiss of it, and the report of what they keep."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, date, datetime
from itertools import chain
from typing import Annotated, Any, Literal

from fastapi import APIRouter, Query, Response
from fastapi.responses import StreamingResponse
from pydantic import BaseModel, ConfigDict, Field, TypeAdapter
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from mossy_trail.core.model.scope import Scope
from mossy_trail.engine import findings, report
from mossy_trail.engine.compare import Side
from mossy_trail.engine.findings import Findings
from mossy_trail.engine.registry import MEASURES
from mossy_trail.engine.segments import SegmentError
from mossy_trail.engine.standouts import Kind
from mossy_trail.engine.study import Study
from mossy_trail.engine.trend import trend, value_of
from mossy_trail.store.models import App, KeptFinding
from mossy_trail.web.contents import TEXT, answers
from mossy_trail.web.context import Author, Database, TheApp, TheScope, TheStudy, get_scope
from mossy_trail.web.problems import ProblemError
from mossy_trail.web.routers.compare import kept_of
from mossy_trail.web.schemas import Unit

router = APIRouter(prefix="/api/apps/{app}", tags=["findings"])
_LINES: dict[int | str, dict[str, Any]] = {
    200: {
        "description": "Each line is one such answer.",
        "content": {"application/jsonl": {"schema": {"$ref": "#/components/schemas/Findings"}}},
    }
}


class KeptScope(BaseModel):
    """What journeys a kept figure is of."""

    model_config = ConfigDict(extra="forbid")

    since: date | None = None
    until: date | None = None
    unit: Unit = "sessions"
    segment: str = Field("", max_length=20_000)
    odd_clocks: bool = False

    def scope(self) -> Scope:
        return get_scope(
            self.since, self.until, self.unit, self.segment, self.odd_clocks, None, "", ""
        )


class BesideBody(BaseModel):
    """What a finding was held against."""

    model_config = ConfigDict(extra="forbid")

    value: float
    low: float
    high: float
    count: int
    of: int
    users: int


class NewFinding(BaseModel):
    """A finding or a figure to be kept, or dismissed; `kind` is “own” of what a person chose."""

    model_config = ConfigDict(extra="forbid")

    key: str = Field(min_length=1, max_length=20_000)
    kind: Kind | Literal["own"]
    sentence: str = Field(min_length=1, max_length=2000)
    measure: str = Field(max_length=100)
    figure: str = Field(max_length=20_000)
    timed: bool = False
    where: str = Field("", max_length=500)
    beside: BesideBody | None = None
    also: list[str] = Field([], max_length=50)
    scope: KeptScope
    dismissed: bool = False
    note: str = Field("", max_length=20_000)


class FindingChange(BaseModel):
    """What is said of a kept finding; what is left out stays."""

    note: str | None = Field(None, max_length=20_000)
    dismissed: bool | None = None
    place: int | None = Field(None, ge=0, le=10_000)


class KeptFindingView(BaseModel):
    """`was` is its value when it was kept, `now` today's; none where there is nothing to count."""

    id: int
    key: str
    dismissed: bool
    place: int
    note: str
    kind: str
    sentence: str
    measure: str
    figure: str
    timed: bool
    where: str
    beside: Side | None
    beside_name: str
    also: list[str]
    scope: KeptScope
    was: Side
    now: Side | None
    changed: bool
    author: str
    """Who kept it; empty where nobody signs in."""
    made_at: datetime


@router.get("/findings")
def read_findings(app: TheApp, study: TheStudy, scope: TheScope, session: Database) -> Findings:
    """What stands out in scope, what touches most users most surely first."""
    kept = kept_of(session, app)
    session.commit()  # the answer may take long, and needs the database no more
    return findings.findings(study, scope, kept)


@router.get("/findings/stream", response_class=StreamingResponse, responses=_LINES)
def stream_findings(
    app: TheApp, study: TheStudy, scope: TheScope, session: Database
) -> StreamingResponse:
    """The same as JSON Lines, one whenever a measure has been asked; the last one has all."""
    kept = kept_of(session, app)
    session.commit()
    coming = findings.as_they_come(study, scope, kept)
    first = next(coming)  # what is wrong with the question is told before anything is sent
    told = TypeAdapter(Findings)
    lines = (told.dump_json(one) + b"\n" for one in chain([first], coming))
    return StreamingResponse(lines, media_type="application/jsonl")


@router.get("/kept-findings")
def list_kept_findings(app: TheApp, study: TheStudy, session: Database) -> list[KeptFindingView]:
    return [_view(study, one) for one in _rows(session, app)]


@router.put("/kept-findings")
def keep_finding(
    app: TheApp, new: NewFinding, study: TheStudy, session: Database, author: Author
) -> KeptFindingView:
    """Keep it, or dismiss it; what was known by the same key is replaced, its place stays."""
    if new.measure not in MEASURES:
        raise ProblemError(404, "There is no such measure.")
    try:
        was = value_of(study, new.scope.scope(), new.measure, new.figure, new.timed)
    except KeyError:
        raise ProblemError(404, "There is no such figure.") from None
    if was is None:
        raise ProblemError(422, "There is nothing to count in it.", "Choose a wider scope.")
    query = select(KeptFinding).where(KeptFinding.app_id == app.id, KeptFinding.key == new.key)
    one = session.scalars(query).one_or_none()
    if one is None:
        last = select(func.max(KeptFinding.place)).where(KeptFinding.app_id == app.id)
        place = (session.scalar(last) or 0) + 1
        one = KeptFinding(app_id=app.id, key=new.key, place=place)
    one.dismissed, one.note, one.data_version = new.dismissed, new.note, study.version
    told = new.model_dump(mode="json", exclude={"key", "dismissed", "note"})
    one.told = {**told, "was": vars(was)}
    one.made_at, one.author = datetime.now(UTC), author
    session.add(one)
    session.flush()
    return _view(study, one)


@router.patch("/kept-findings/{number}")
def change_finding(
    app: TheApp, number: int, change: FindingChange, study: TheStudy, session: Database
) -> KeptFindingView:
    """Note, dismissal, or place; those after its new place move on."""
    one = _known(session, app, number)
    if change.note is not None:
        one.note = change.note
    if change.dismissed is not None:
        one.dismissed = change.dismissed
    if change.place is not None:
        others = [other for other in _rows(session, app) if other is not one]
        others.insert(change.place, one)
        for place, other in enumerate(others):
            other.place = place
    session.flush()
    return _view(study, one)


@router.delete("/kept-findings/{number}", status_code=204)
def forget_finding(app: TheApp, number: int, session: Database) -> None:
    session.delete(_known(session, app, number))


@router.get(
    "/report",
    response_class=Response,
    responses=answers(**{"text/html": TEXT, "text/markdown": TEXT}),
)
def read_report(
    app: TheApp,
    study: TheStudy,
    scope: TheScope,
    session: Database,
    form: Annotated[Literal["html", "markdown"], Query()] = "html",
) -> Response:
    """What is kept, as one file: HTML without scripts, or Markdown."""
    items = [_item(study, one) for one in _rows(session, app) if not one.dismissed]
    told = report.Report(
        app.name, f"{datetime.now(UTC):%d %B %Y}", report.facts(study, scope), items
    )
    if form == "markdown":
        return _file(report.markdown(told), "text/markdown", f"{app.key}-report.md")
    return _file(report.html(told), "text/html", f"{app.key}-report.html")


def _file(text: str, kind: str, name: str) -> Response:
    head = {"Content-Disposition": f'attachment; filename="{name}"'}
    return Response(text, media_type=f"{kind}; charset=utf-8", headers=head)


def _rows(session: Session, app: App) -> Sequence[KeptFinding]:
    query = select(KeptFinding).where(KeptFinding.app_id == app.id)
    return session.scalars(query.order_by(KeptFinding.place, KeptFinding.id)).all()


def _known(session: Session, app: App, number: int) -> KeptFinding:
    known = session.get(KeptFinding, number) if 0 < number < 1 << 31 else None
    if known is None or known.app_id != app.id:
        raise ProblemError(404, "That is kept no more.", "Choose one that is listed.")
    return known


def _now(study: Study, told: dict[str, Any]) -> Side | None:
    """Its value today; none where the figure, or the segment, is there no more."""
    scope = KeptScope(**told["scope"]).scope()
    try:
        return value_of(study, scope, told["measure"], told["figure"], told["timed"])
    except (KeyError, SegmentError):
        return None


def _view(study: Study, one: KeptFinding) -> KeptFindingView:
    told, now = one.told, _now(study, one.told)
    was = Side(**told["was"])
    changed = now is None or (now.count, now.of) != (was.count, was.of)
    return KeptFindingView.model_validate(
        {
            **{key: told[key] for key in _TOLD},
            **{
                key: getattr(one, key)
                for key in ("id", "key", "dismissed", "place", "note", "author")
            },
            "beside_name": report.BESIDE.get(told["kind"], "expected"),
            "was": was,
            "now": now,
            "changed": changed,
            "made_at": one.made_at,
        }
    )


_OWN = ("id", "key", "dismissed", "place", "note", "author")
_TOLD = ("kind", "sentence", "measure", "figure", "timed", "where", "beside", "also", "scope")


def _item(study: Study, one: KeptFinding) -> report.Item:
    view = _view(study, one)
    scope = view.scope.scope()
    over_time = None
    if view.beside is None and view.now is not None:
        over_time = trend(study, scope, view.measure, view.figure, over="day", timed=view.timed)
    return report.Item(
        view.sentence,
        view.note,
        report.scope_words(scope),
        view.timed,
        view.was,
        view.now,
        view.where,
        view.beside,
        view.beside_name,
        view.also,
        over_time,
        f"{view.made_at:%d %B %Y}",
    )
