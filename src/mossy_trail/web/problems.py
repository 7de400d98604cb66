"""Errors as RFC 9457 problem details, each with a message that a person can act on."""

from __future__ import annotations

import psycopg
import structlog
from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from pydantic import BaseModel
from sqlalchemy.exc import DataError, OperationalError
from starlette.exceptions import HTTPException

from mossy_trail.core.model.pattern import PatternError
from mossy_trail.engine.segments import SegmentError

_note = structlog.get_logger()


class Problem(BaseModel):
    """What went wrong, and what to do about it."""

    title: str
    status: int
    detail: str
    instance: str | None = None
    """Where a report of it is, if the tool is at fault."""


DATABASE_DOWN = Problem(
    title="The database cannot be reached.",
    status=503,
    detail="Nothing is lost. This page comes back by itself when the database does.",
)


class ProblemError(Exception):
    def __init__(self, status: int, title: str, detail: str = "") -> None:
        super().__init__(title)
        self.problem = Problem(title=title, status=status, detail=detail)


def respond(problem: Problem) -> JSONResponse:
    return JSONResponse(
        problem.model_dump(exclude_none=True), problem.status, media_type="application/problem+json"
    )


def install(app: FastAPI) -> None:
    @app.exception_handler(ProblemError)
    def known(_: Request, error: ProblemError) -> JSONResponse:
        return respond(error.problem)

    @app.exception_handler(HTTPException)
    def http(_: Request, error: HTTPException) -> JSONResponse:
        return respond(Problem(title=str(error.detail), status=error.status_code, detail=""))

    @app.exception_handler(RequestValidationError)
    def invalid(_: Request, error: RequestValidationError) -> JSONResponse:
        first = error.errors()[0]
        where = ".".join(map(str, first["loc"][1:])) or "the request"
        problem = Problem(title=f"{where}: {first['msg']}", status=422, detail="")
        return respond(problem)

    @app.exception_handler(SegmentError)
    def no_segment(_: Request, error: SegmentError) -> JSONResponse:
        title = f"The segment cannot be used: {error}."
        return respond(Problem(title=title, status=422, detail="Take it out of the scope bar."))

    @app.exception_handler(PatternError)
    def no_pattern(_: Request, error: PatternError) -> JSONResponse:
        where = f", at letter {error.start + 1}" if error.end else ""
        return respond(Problem(title=f"{error.message}{where}.", status=422, detail=error.mend))

    @app.exception_handler(DataError)
    def not_storable(_: Request, error: DataError) -> JSONResponse:
        detail = str(error.orig).splitlines()[0]
        title = "A value is out of range, or holds a character that cannot be kept."
        return respond(Problem(title=title, status=422, detail=detail))

    # What is copied in bulk goes by the driver itself, which has errors of its own.
    @app.exception_handler(psycopg.OperationalError)
    @app.exception_handler(OperationalError)
    def database_down(_: Request, error: Exception) -> JSONResponse:
        _note.warning("database unreachable", error=str(error)[:300])
        return respond(DATABASE_DOWN)
