"""Faults of the tool: each has a number, under which its log and a report that can be sent on
tell of it.

A report says where the code broke, and nothing of what was asked or is in a log.
"""

from __future__ import annotations

import platform
import secrets
import traceback
from collections import OrderedDict
from datetime import UTC, datetime
from importlib.metadata import version
from pathlib import Path
from threading import Lock

import structlog
from fastapi import APIRouter, Request
from fastapi.responses import JSONResponse, PlainTextResponse

from mossy_trail.web.problems import Problem, ProblemError, respond

KEPT = 100
_HOUSE = Path(__file__).parents[1]
_note = structlog.get_logger()
_reports: OrderedDict[str, str] = OrderedDict()
_order = Lock()
router = APIRouter(prefix="/api/faults", tags=["faults"])


def answer(request: Request, error: Exception) -> JSONResponse:
    """The answer to a request at which the tool broke; its report is kept for a while."""
    number = secrets.token_hex(4)
    with _order:
        _reports[number] = _report(number, request, error)
        while len(_reports) > KEPT:
            _reports.popitem(last=False)
    _note.error("fault", number=number, kind=type(error).__name__)
    problem = Problem(
        title="Something broke in the tool.",
        status=500,
        detail=f"This is fault {number}; the server's log has it under that number.",
        instance=f"/api/faults/{number}",
    )
    return respond(problem)


def _report(number: str, request: Request, error: Exception) -> str:
    route = getattr(request.scope.get("route"), "path", "no route")
    told = [
        f"Mossy Trail {version('mossy-trail')}, fault {number}",
        f"at {datetime.now(UTC):%Y-%m-%d %H:%M} UTC, Python {platform.python_version()}",
        f"asked: {request.method} {route}",
    ]
    while error is not None:
        told.append(f"\n{type(error).__name__}, from the outermost call inwards:")
        told += [f"  {_place(frame)}" for frame in traceback.extract_tb(error.__traceback__)]
        error = error.__cause__ or error.__context__  # type: ignore[assignment]
    return "\n".join(told) + "\n"


def _place(frame: traceback.FrameSummary) -> str:
    path = Path(frame.filename)
    own = path.is_relative_to(_HOUSE)
    name = path.relative_to(_HOUSE) if own else Path(*path.parts[-2:])
    return f"{name}:{frame.lineno} in {frame.name}"


@router.get("/{number}", response_class=PlainTextResponse)
def report(number: str) -> PlainTextResponse:
    """What can be sent to whoever mends the tool."""
    found = _reports.get(number)
    if found is None:
        raise ProblemError(404, "No such fault is known.", "The server forgets them when it ends.")
    name = f'attachment; filename="fault-{number}.txt"'
    return PlainTextResponse(found, headers={"Content-Disposition": name})
