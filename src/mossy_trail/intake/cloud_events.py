"""CloudEvents 1.0 over HTTP in JSON: structured, batch and binary mode, as rows of a log."""

from __future__ import annotations

import base64
import json
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import unquote

STRUCTURED, BATCH = "application/cloudevents+json", "application/cloudevents-batch+json"
MOST_EVENTS = 10_000
LONGEST_NAME = 512
"""Characters in the source or id of an event."""
_REQUIRED = ("id", "source", "specversion", "type")
_OWN = {*_REQUIRED, "time", "subject", "datacontenttype", "dataschema", "data", "data_base64"}


class UnusableEvents(ValueError):
    """What was sent is no CloudEvents; the message says which event, and what is wrong."""


@dataclass(frozen=True)
class SentEvent:
    """What tells an event from others (`source`, `id`), and the row it stands for, as JSON."""

    source: str
    id: str
    row: str


def read_events(headers: Mapping[str, str], body: bytes) -> list[SentEvent]:
    """The events of one request, by the mode that its headers tell."""
    kind = headers.get("content-type", "").partition(";")[0].strip().lower()
    if kind == BATCH:
        events = _json(body, "The body")
        if not isinstance(events, list):
            raise UnusableEvents("A batch is a JSON array of events.")
        if len(events) > MOST_EVENTS:
            raise UnusableEvents(f"A batch may hold {MOST_EVENTS:,} events; send several.")
    elif kind == STRUCTURED:
        events = [_json(body, "The body")]
    elif any(name.lower().startswith("ce-") for name in headers):
        events = [_binary(headers, kind, body)]
    else:
        raise UnusableEvents(
            f"The content type is neither {STRUCTURED} nor {BATCH}, and no header begins with ce-."
        )
    return [_sent(number, event) for number, event in enumerate(events, 1)]


def _json(data: bytes, what: str) -> Any:
    try:
        return json.loads(data)
    except (ValueError, RecursionError):
        raise UnusableEvents(f"{what} is not JSON.") from None


def _binary(headers: Mapping[str, str], kind: str, body: bytes) -> dict[str, Any]:
    """Attributes stand in headers, percent-encoded; the body is the data."""
    event: dict[str, Any] = {
        name.lower().removeprefix("ce-"): unquote(value)
        for name, value in headers.items()
        if name.lower().startswith("ce-")
    }
    if body:
        is_json = kind in ("", "application/json") or kind.endswith("+json")
        event["data"] = _json(body, "The data") if is_json else None
    return event


def _sent(number: int, event: Any) -> SentEvent:
    if not isinstance(event, dict):
        raise UnusableEvents(f"Event {number} is not a JSON object.")
    for name in _REQUIRED:
        value = event.get(name)
        if not isinstance(value, str) or not value:
            raise UnusableEvents(f"Event {number} has no “{name}”.")
    if event["specversion"] != "1.0":
        raise UnusableEvents(f"Event {number} is of another version than 1.0.")
    if max(len(event["source"]), len(event["id"])) > LONGEST_NAME:
        raise UnusableEvents(
            f"The source or id of event {number} has more than {LONGEST_NAME} characters."
        )
    row = json.dumps(_row(number, event), ensure_ascii=False)
    return SentEvent(cleaned(event["source"]), cleaned(event["id"]), cleaned(row))


def _row(number: int, event: dict[str, Any]) -> dict[str, Any]:
    """The data's members; what they lack is taken from the event's own attributes."""
    data = event.get("data")
    if data is None and isinstance(event.get("data_base64"), str):
        try:
            data = _json(base64.b64decode(event["data_base64"], validate=True), "The data")
        except ValueError:
            raise UnusableEvents(f"The data of event {number} cannot be decoded.") from None
    row = {
        "time": event.get("time"),
        "user": event.get("subject"),
        "event": event["type"].rpartition(".")[2],
    }
    row |= {name: value for name, value in event.items() if name not in _OWN}
    row |= data if isinstance(data, dict) else {}
    return {name: value for name, value in row.items() if value is not None}


def cleaned(text: str) -> str:
    """What PostgreSQL can hold: no NUL, and no half of a surrogate pair."""
    return text.replace("\0", "\N{SYMBOL FOR NULL}").encode("utf-8", "replace").decode()
