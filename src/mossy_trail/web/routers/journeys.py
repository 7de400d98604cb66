"""Journeys: listed, as evidence or by search, and laid open step by step."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Any, Literal

import numpy as np
from fastapi import APIRouter, Depends, Query
from fastapi.responses import StreamingResponse
from numpy.typing import NDArray
from sqlalchemy.orm import Session

from mossy_trail.core.model.scope import Scope
from mossy_trail.engine import journeys
from mossy_trail.engine.export import MEDIA_TYPES, rows_of, steps_of, stream
from mossy_trail.engine.journeys import Wanted
from mossy_trail.engine.measures import behind
from mossy_trail.engine.scoped import scope_mask
from mossy_trail.engine.study import JourneyRef, Study
from mossy_trail.ingest.raw_rows import RawRows
from mossy_trail.web.contents import BYTES, TEXT, answers
from mossy_trail.web.context import Database, TheApp, TheScope, TheStudy
from mossy_trail.web.problems import ProblemError
from mossy_trail.web.schemas import Journey, JourneyPage, ListedJourney, StepDetail

router = APIRouter(prefix="/api/apps/{app}", tags=["journeys"])

MOST_ROWS = 200


def get_wanted(
    search: Annotated[str, Query(max_length=300)] = "",
    mark: journeys.Mark | Literal[""] = "",
    move: journeys.Move | Literal[""] = "",
    start: journeys.Start | Literal[""] = "",
    exit: journeys.Exit | Literal[""] = "",
    fewest: Annotated[int, Query(ge=0, description="Steps, at least")] = 0,
    most: Annotated[int | None, Query(ge=0, description="Steps, at most")] = None,
    tab: Annotated[str, Query(max_length=2000, description="The tab it ended in")] = "",
    depth: Annotated[int, Query(ge=0, description="Of the deepest stack, at least")] = 0,
    turns: Annotated[int, Query(ge=0, description="Of a loop, at least")] = 0,
    tries: Annotated[int, Query(ge=0, description="That failed, at least")] = 0,
) -> Wanted:
    return Wanted(search, mark, move, start, exit, fewest, most, tab, depth, turns, tries)


TheWanted = Annotated[Wanted, Depends(get_wanted)]


@router.get("/journeys")
def list_journeys(
    study: TheStudy,
    scope: TheScope,
    wanted: TheWanted,
    sort: journeys.Sort = "newest",
    measure: str = "",
    figure: str = "",
    offset: Annotated[int, Query(ge=0)] = 0,
    limit: Annotated[int, Query(ge=1, le=200)] = 50,
) -> JourneyPage:
    """The journeys in scope; with `measure` and `figure`, exactly those that the figure counts."""
    found = journeys.find(study, _counted(study, scope, measure, figure), wanted, sort)
    page = found.positions[offset : offset + limit]
    return JourneyPage(
        total=found.count,
        journeys=[ListedJourney(**journeys.listed(study, int(p), sort)) for p in page],
    )


def _counted(study: Study, scope: Scope, measure: str, figure: str) -> NDArray[np.bool_]:
    """The journeys in scope; with a figure, exactly those that it counts."""
    if not measure:
        return scope_mask(study, scope)
    try:
        return behind(study, scope, measure, figure)
    except KeyError:
        raise ProblemError(
            404, "There is no such figure.", "Open it from its page again."
        ) from None


@router.get(
    "/{what}.{form}",
    response_class=StreamingResponse,
    responses=answers(
        **{MEDIA_TYPES[form]: BYTES if form == "parquet" else TEXT for form in MEDIA_TYPES}
    ),
)
def export(
    what: Literal["steps", "rows"],
    form: Literal["csv", "jsonl", "parquet", "xes"],
    app: TheApp,
    study: TheStudy,
    scope: TheScope,
    wanted: TheWanted,
    measure: str = "",
    figure: str = "",
) -> StreamingResponse:
    """Every step, or every row, of the journeys that the list shows, as a file."""
    mask = journeys.matching(study, _counted(study, scope, measure, figure), wanted)
    tables = steps_of(study, mask) if what == "steps" else rows_of(study, mask)
    name = f'attachment; filename="{app.key}.{what}.{form}"'
    return StreamingResponse(
        stream(tables, form),
        media_type=MEDIA_TYPES[form],
        headers={"Content-Disposition": name},
    )


@router.get("/journey/step")
def read_step(key: str, step: int, study: TheStudy, session: Database) -> StepDetail:
    """The stack at a step, and the step's rows byte for byte as they came."""
    ref = _find(study, key)
    count = int(study.parts[ref.part].journeys.steps[ref.number])
    if not 1 <= step <= count:
        raise ProblemError(404, f"This journey has {count:,} steps.", "Choose one of them.")
    rows = journeys.raw_places(study, ref, step)
    return StepDetail(**journeys.pile(study, ref, step), rows=_with_raw(session, rows))  # type: ignore[arg-type]


@router.get("/journey")
def read_journey(key: str, study: TheStudy) -> Journey:
    return Journey(**journeys.detail(study, _find(study, key)))


def _find(study: Study, key: str) -> JourneyRef:
    try:
        return journeys.by_key(study, key)
    except KeyError:
        raise ProblemError(
            404, "There is no such journey in this app.", "Its log may have been deleted."
        ) from None


def _with_raw(session: Session, rows: Sequence[dict[str, Any]]) -> list[dict[str, Any]]:
    """The rows with the name of their file and their own bytes, read as UTF-8."""
    raw = RawRows(session)
    return [
        {**row, "file": raw.name(row["file"]), "raw": raw.text(row["file"], row["line"])}
        for row in rows[:MOST_ROWS]
    ]
