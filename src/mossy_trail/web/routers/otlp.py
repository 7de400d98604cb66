"""Live intake of OpenTelemetry's log records; the key alone tells the app that they are of."""

from __future__ import annotations

import asyncio
from collections import Counter

from fastapi import APIRouter, Request, Response
from sqlalchemy import select
from sqlalchemy.orm import Session

from mossy_trail.ingest.live import Receipt
from mossy_trail.intake.otlp import (
    JSON,
    PROTOBUF,
    UnusableRecords,
    answered,
    kind_of,
    read_records,
    refused,
)
from mossy_trail.store.models import App
from mossy_trail.web.contents import body_of
from mossy_trail.web.context import Context
from mossy_trail.web.problems import ProblemError
from mossy_trail.web.routers.live import LARGEST_BODY, hashed

router = APIRouter()
MOST_REASONS = 5


@router.post("/v1/logs", include_in_schema=False)  # the protocol has a schema of its own
async def take_logs(request: Request) -> Response:
    """OTLP/HTTP: protobuf or JSON, plain or gzip. The answer comes when the records are durable; it
    says how many of them cannot be used, and why."""
    here: Context = request.app.state.context
    kind = kind_of(request.headers)
    if kind not in (PROTOBUF, JSON):
        return _refusal(PROTOBUF, 415, f"The content type is neither {PROTOBUF} nor {JSON}.")
    app_id = await asyncio.to_thread(_app_of, here, request.headers.get("authorization", ""))
    if app_id is None:
        return _refusal(kind, 401, "The key fits no app. Send it as “Authorization: Bearer KEY”.")
    try:
        body = await body_of(request, LARGEST_BODY)
        told = dict(request.headers)
        receipt = await asyncio.to_thread(here.live.take, app_id, read_records, told, body)
    except ProblemError as error:
        return _refusal(kind, error.problem.status, error.problem.title)
    except UnusableRecords as error:
        return _refusal(kind, 400, str(error))
    return Response(answered(kind, *_rejected(receipt)), media_type=kind)


def _app_of(here: Context, authorization: str) -> int | None:
    given = hashed(authorization.removeprefix("Bearer "))
    with Session(here.engine) as session:
        return session.scalar(select(App.id).where(App.ingest_key == given))


def _rejected(receipt: Receipt) -> tuple[int, str]:
    reasons = Counter(one.reason for one in receipt if one.fate == "set aside")
    told = [f"{reason} ({count:,})" for reason, count in reasons.most_common(MOST_REASONS)]
    return reasons.total(), f"Set aside: {', '.join(told)}." if told else ""


def _refusal(kind: str, status: int, message: str) -> Response:
    return Response(refused(kind, message), status, media_type=kind)
