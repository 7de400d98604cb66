"""The app map: shown beside what is seen, changed, drafted; its versions and its file."""

from __future__ import annotations

from dataclasses import asdict
from typing import Annotated, Any

import yaml
from fastapi import APIRouter, Depends, Request, Response
from fastapi.responses import FileResponse
from sqlalchemy.orm import Session

from mossy_trail.core.inference.draft import draft
from mossy_trail.core.model.log import sample
from mossy_trail.engine import fit, history, practice
from mossy_trail.intake.app_map_file import SCHEMA, map_of, parse_map
from mossy_trail.intake.errors import UnusableMap
from mossy_trail.store.models import App, AppMapVersion
from mossy_trail.web.contents import OBJECT, TEXT, answers, body_of, takes
from mossy_trail.web.context import Author, Database, TheApp, TheScope, TheStudy, milliseconds
from mossy_trail.web.problems import ProblemError
from mossy_trail.web.schemas import (
    DraftView,
    FitView,
    HistoryFits,
    MapSummary,
    MapVersion,
    MapView,
    MendBody,
    MendView,
)

router = APIRouter(prefix="/api/apps/{app}/map", tags=["app map"])
LARGEST_MAP = 8 << 20
DRAFTED_FROM = 500_000
"""Rows that a draft is made from; of more, those of whole users."""


@router.get("", response_class=Response, responses=answers(**{"application/yaml": OBJECT}))
def read_map(app: TheApp) -> Response:
    """The newest map, as YAML."""
    if not app.maps:
        raise ProblemError(
            404, "This app has no map yet.", "Bring one as a YAML or JSON file, or have it drafted."
        )
    text = yaml.safe_dump(app.maps[-1].document, sort_keys=False, allow_unicode=True)
    name = f"{app.key}.map.yaml"
    headers = {"Content-Disposition": f'attachment; filename="{name}"'}
    return Response(text, media_type="application/yaml", headers=headers)


@router.get(
    "/schema", response_class=Response, responses=answers(**{"application/schema+json": OBJECT})
)
def read_schema(app: TheApp) -> FileResponse:
    """The JSON Schema that a map's file is held against."""
    return FileResponse(SCHEMA, media_type="application/schema+json", filename=SCHEMA.name)


async def get_text(request: Request) -> str:
    try:
        return (await body_of(request, LARGEST_MAP)).decode()
    except UnicodeDecodeError:
        raise ProblemError(422, "The map is not in UTF-8.", "Save it as UTF-8.") from None


_AS_FILE: dict[str, Any] = {
    "application/json": OBJECT,
    "application/yaml": OBJECT,
    "text/plain": TEXT,
}


@router.put("", openapi_extra=takes(**_AS_FILE))
def replace_map(
    app: TheApp, text: Annotated[str, Depends(get_text)], session: Database, author: Author
) -> MapSummary:
    """A new version of the map. It holds at once, in every view."""
    try:
        document = parse_map(text)
    except UnusableMap as error:
        raise ProblemError(422, str(error), "The map in use is unchanged.") from None
    return _new_version(app, document, session, author)


@router.post("/versions/{version}")
def take_version(app: TheApp, version: int, session: Database, author: Author) -> MapSummary:
    """An earlier version of the map becomes the newest one."""
    for one in app.maps:
        if one.version == version:
            return _new_version(app, one.document, session, author)
    raise ProblemError(404, "There is no such version.", "Choose one of those that are listed.")


def _new_version(app: App, document: dict[str, Any], session: Session, author: str) -> MapSummary:
    version = max((m.version for m in app.maps), default=0) + 1
    session.add(AppMapVersion(app_id=app.id, version=version, document=document, author=author))
    own = map_of(document)
    return MapSummary(
        version=version, screens=len(own.screens), tabs=len(own.tabs), links=len(own.links)
    )


@router.get("/view")
def view_map(app: TheApp, study: TheStudy, scope: TheScope) -> MapView:
    """The newest map, its screens with their visits, moves as they happen, and its versions."""
    document = app.maps[-1].document if app.maps else {"mossy_map": 1}
    return MapView(
        document=document,
        versions=[
            MapVersion(version=m.version, made_at=milliseconds(m.created_at), author=m.author)
            for m in app.maps
        ],
        **practice.measure(study, scope, document),
    )


@router.get("/draft")
def draft_map(app: TheApp, study: TheStudy) -> DraftView:
    """A map drafted from the log alone, each guess with its reason. Nothing is changed."""
    made = draft(sample((steps.log for steps in study.parts), DRAFTED_FROM))
    document = {"mossy_map": 1, "app": app.name, **made.document}
    return DraftView(document=document, guesses=[asdict(guess) for guess in made.guesses])  # type: ignore[misc]


@router.get("/fit")
def read_fit(study: TheStudy, scope: TheScope, by: str = "version") -> FitView:
    """How many of the moves that rows tell landed where the replay said they would."""
    return FitView(**fit.measure(study, scope, by))


@router.get("/fit/mends")
def find_mends(study: TheStudy) -> list[MendView]:
    """Changes of the map by which most of the moves that misfit would fit."""
    return [MendView(**asdict(mend)) for mend in fit.mends(study)]


@router.post("/fit/mends")
def take_mend(app: TheApp, mend: MendBody, session: Database, author: Author) -> MapSummary:
    """Make such a change: a new version of the map, which holds at once and can be undone."""
    document = app.maps[-1].document if app.maps else {"mossy_map": 1}
    try:
        changed = fit.mended(document, fit.Mend(**mend.model_dump()))
        return _new_version(app, changed, session, author)
    except (KeyError, UnusableMap):
        raise ProblemError(
            422, "The map has nothing of that name.", "Ask again what would mend it."
        ) from None


@router.get("/history")
def find_history(study: TheStudy, by: str = "") -> list[HistoryFits]:
    """How well each setting of the history rules fits the log; `by` a property too."""
    return [HistoryFits(value=value, **found) for value, found in history.rules(study, by).items()]
