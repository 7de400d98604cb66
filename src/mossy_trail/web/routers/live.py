"""Live intake: the key, and the events that an app sends as CloudEvents."""

from __future__ import annotations

import asyncio
import hmac
import secrets
from collections import Counter
from dataclasses import asdict
from hashlib import sha256
from typing import Any

from fastapi import APIRouter, Request
from sqlalchemy import select
from sqlalchemy.orm import Session

from mossy_trail.ingest.live import Receipt
from mossy_trail.intake.cloud_events import UnusableEvents, read_events
from mossy_trail.store.models import App
from mossy_trail.web.contents import OBJECT, body_of, takes
from mossy_trail.web.context import Context, Database, Here, TheApp
from mossy_trail.web.problems import ProblemError
from mossy_trail.web.schemas import IngestKey, ReceiptView, ReceivedView

router = APIRouter(prefix="/api/apps/{app}", tags=["live"])

LARGEST_BODY = 8 << 20


@router.post("/ingest-key", status_code=201)
def make_key(app: TheApp, here: Here, session: Database) -> IngestKey:
    """A new key to send events with. It is shown this once, and the one before it ends."""
    key = secrets.token_urlsafe(24)
    app.ingest_key = hashed(key)
    here.live.expect()
    return IngestKey(key=key)


def hashed(key: str) -> str:
    return sha256(key.encode()).hexdigest()


_EVENTS: dict[str, Any] = {
    "application/cloudevents+json": {"title": "Event", **OBJECT},
    "application/cloudevents-batch+json": {"type": "array", "items": OBJECT},
    "application/json": {"title": "EventData", **OBJECT},
}


@router.post("/events", openapi_extra=takes(**_EVENTS))
async def send_events(app: str, request: Request) -> ReceiptView:
    """CloudEvents 1.0 in JSON: one (structured or binary mode) or a batch.

    The answer comes when they are durable. An event whose `source` and `id` came before is
    dropped, and counted. Of each event the answer says what becomes of it, and why.
    """
    here: Context = request.app.state.context
    app_id = await asyncio.to_thread(_allowed, here, app, request.headers.get("authorization", ""))
    body = await body_of(request, LARGEST_BODY)
    receipt = await asyncio.to_thread(_receive, here, app_id, request, body)
    fates = Counter(one.fate for one in receipt)
    return ReceiptView(
        accepted=fates["used"],
        duplicates=fates["doubled"],
        set_aside=fates["set aside"],
        events=[ReceivedView(**asdict(one)) for one in receipt],
    )


def _allowed(here: Context, app_key: str, authorization: str) -> int:
    with Session(here.engine) as session:
        app = session.scalar(select(App).where(App.key == app_key))
    given = authorization.removeprefix("Bearer ")
    if app and app.ingest_key and hmac.compare_digest(hashed(given), app.ingest_key):
        return app.id
    raise ProblemError(
        401,
        "The key does not fit this app.",
        "Make one on the page Logs, and send it as “Authorization: Bearer KEY”.",
    )


def _receive(here: Context, app_id: int, request: Request, body: bytes) -> Receipt:
    try:
        return here.live.take(app_id, read_events, dict(request.headers), body)
    except UnusableEvents as error:
        raise ProblemError(400, str(error), "Nothing of this request was kept.") from None
