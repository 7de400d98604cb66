"""Log records of the OpenTelemetry protocol over HTTP (OTLP 1, protobuf and JSON), as rows.

What its semantic conventions say of users, sessions, screens, the app's lifecycle and a browser's
navigation is put in our words; all other attributes keep their names.
"""

from __future__ import annotations

import hashlib
import json
import zlib
from collections import Counter
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime, timedelta
from typing import Any
from urllib.parse import urlsplit

from google.protobuf import json_format
from google.protobuf.message import DecodeError, Message
from google.rpc.status_pb2 import Status
from opentelemetry.proto.collector.logs.v1.logs_service_pb2 import (
    ExportLogsServiceRequest,
    ExportLogsServiceResponse,
)
from opentelemetry.proto.common.v1.common_pb2 import AnyValue, KeyValue
from opentelemetry.proto.logs.v1.logs_pb2 import LogRecord, ScopeLogs

from mossy_trail.intake.cloud_events import LONGEST_NAME, MOST_EVENTS, SentEvent, cleaned

PROTOBUF, JSON = "application/x-protobuf", "application/json"
LARGEST_UNPACKED = 64 << 20
_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
_INSTALL = ("app.installation.id", "enduser.pseudo.id")
_ACCOUNT = ("user.id", "user.hash", "enduser.id")
_SCREEN = ("app.screen.name", "app.screen.id")
_LIFECYCLE = "device.app.lifecycle"
_STATES = {
    "created": "app_start",
    "foreground": "app_foreground",
    "active": "app_foreground",
    "background": "app_background",
    "terminate": "app_exit",
}
_STATE = ("android.app.state", "ios.app.state", "android.state", "ios.state")
_NAVIGATION = ("browser.navigation", "browser.page_view")
_NAVIGATED = {"push": "push", "replace": "replace"}
_UNNAMED = "log"
"""The word of a record that is no event: it shows no screen, whatever attributes it has."""


class UnusableRecords(ValueError):
    """What was sent is no OTLP; the message says what is wrong."""


def kind_of(headers: Mapping[str, str]) -> str:
    """Which encoding a request has, and its answer is to have."""
    return headers.get("content-type", "").partition(";")[0].strip().lower()


def read_records(headers: Mapping[str, str], body: bytes) -> list[SentEvent]:
    """The records of one request; the same ones are the same events when they are sent again."""
    request = _parsed(kind_of(headers), _unpacked(headers.get("content-encoding", ""), body))
    rows = list(_rows(request))
    if len(rows) > MOST_EVENTS:
        raise UnusableRecords(f"A request may hold {MOST_EVENTS:,} records; send several.")
    seen: Counter[str] = Counter()
    sent = []
    for source, uid, moment, row in rows:
        text = json.dumps(row, ensure_ascii=False)
        name = uid or hashlib.sha256(f"{moment}\n{text}".encode()).hexdigest()
        seen[name] += 1
        again = f" {seen[name]}" if seen[name] > 1 and not uid else ""
        sent.append(SentEvent(cleaned(source), cleaned(name) + again, cleaned(text)))
    return sent


def answered(kind: str, rejected: int, message: str) -> bytes:
    """The body that says how many records were not taken, and why."""
    answer = ExportLogsServiceResponse()
    if rejected or message:
        answer.partial_success.rejected_log_records = rejected
        answer.partial_success.error_message = message
    return _written(kind, answer)


def refused(kind: str, message: str) -> bytes:
    """The body that says why nothing was taken."""
    return _written(kind, Status(message=message))


def _written(kind: str, message: Message) -> bytes:
    if kind == JSON:
        return json_format.MessageToJson(message).encode()
    return message.SerializeToString()


def _unpacked(encoding: str, body: bytes) -> bytes:
    if encoding in ("", "identity"):
        return body
    if encoding != "gzip":
        raise UnusableRecords(f"The encoding “{encoding}” is not known; gzip is.")
    unpacking = zlib.decompressobj(wbits=31)
    try:
        data = unpacking.decompress(body, LARGEST_UNPACKED + 1)
    except zlib.error:
        raise UnusableRecords("The body is not gzip, as its header says.") from None
    if len(data) > LARGEST_UNPACKED:
        limit = LARGEST_UNPACKED >> 20
        raise UnusableRecords(f"Unpacked, the body is larger than {limit} MB; send several.")
    if not unpacking.eof:
        raise UnusableRecords("The body is cut short.")
    return data


def _parsed(kind: str, data: bytes) -> ExportLogsServiceRequest:
    request = ExportLogsServiceRequest()
    try:
        if kind == PROTOBUF:
            request.ParseFromString(data)
        elif kind == JSON:
            document = json.loads(data, object_hook=_without_traces)
            json_format.ParseDict(document, request, ignore_unknown_fields=True)
        else:
            raise UnusableRecords(f"The content type is neither {PROTOBUF} nor {JSON}.")
    except (DecodeError, json_format.ParseError, ValueError, RecursionError, AttributeError) as e:
        if isinstance(e, UnusableRecords):
            raise
        raise UnusableRecords("The body is no request to export logs.") from None
    return request


def _without_traces(found: dict[str, Any]) -> dict[str, Any]:
    """Ids of traces are hexadecimal here, other than elsewhere in JSON of protobuf; no row has
    them."""
    return {key: value for key, value in found.items() if key not in ("traceId", "spanId")}


def _rows(
    request: ExportLogsServiceRequest,
) -> Iterator[tuple[str, str, int, dict[str, Any]]]:
    """Of each record its source, its own id where it has one, its moment, and its row."""
    for of_resource in request.resource_logs:
        resource = _attributes(of_resource.resource.attributes)
        source = str(resource.get("service.instance.id") or resource.get("service.name") or "otlp")
        for of_scope in of_resource.scope_logs:
            scope = _scope(of_scope)
            for record in of_scope.log_records:
                own = _attributes(record.attributes)
                uid = str(own.pop("log.record.uid", ""))[:LONGEST_NAME]
                moment = record.time_unix_nano or record.observed_time_unix_nano
                around = {f"resource.{k}" if k in own else k: v for k, v in resource.items()}
                yield source[:LONGEST_NAME], uid, moment, _row(record, {**around, **scope, **own})


def _scope(scope: ScopeLogs) -> dict[str, Any]:
    named = {"scope.name": scope.scope.name, "scope.version": scope.scope.version}
    attributes = _attributes(scope.scope.attributes)
    return {key: value for key, value in {**named, **attributes}.items() if value}


def _row(record: LogRecord, told: dict[str, Any]) -> dict[str, Any]:
    named = record.event_name or _first(told, ("event.name", "event"))
    install, account = _first(told, _INSTALL), _first(told, _ACCOUNT)
    row = {
        "time": _time(record.time_unix_nano or record.observed_time_unix_nano),
        "user": account if install is None else install,
        "account": None if install is None else account,
        "session": told.pop("session.id", None),
        "event": str(named) if named else _UNNAMED,
        "screen": _first(told, _SCREEN) if named else None,
    }
    if named == _LIFECYCLE:
        state = _first(told, _STATE)
        row["event"] = _STATES.get(str(state), f"{_LIFECYCLE} {state}")
    elif named in _NAVIGATION:
        row |= _navigated(told)
    body = _value(record.body)
    more = {"severity": record.severity_text or None, "body": body if body != named else None}
    said = {name: value for name, value in {**more, **row}.items() if value is not None}
    return {**told, **said}


def _navigated(told: dict[str, Any]) -> dict[str, Any]:
    """Where a browser went, by its route or the path of its address; and how, where that is told
    and only one thing can be meant: to traverse its history leads back or forward."""
    address = told.get("url.full") or told.get("browser.document.url.full")
    path = told.get("url.template") or told.get("url.path")
    word = _NAVIGATED.get(str(told.get("browser.navigation.type")), "screen_view")
    return {"event": word, "screen": path or (urlsplit(str(address)).path if address else None)}


def _first(told: dict[str, Any], names: tuple[str, ...]) -> Any:
    """The first of these attributes that is told; all of them are taken out with it."""
    found = [told.pop(name, None) for name in names if name in told]
    return next((value for value in found if value not in (None, "")), None)


def _time(nanoseconds: int) -> str | None:
    if not nanoseconds:
        return None
    try:
        return (_EPOCH + timedelta(microseconds=nanoseconds // 1000)).isoformat()
    except OverflowError:
        return str(nanoseconds)


def _attributes(pairs: Any) -> dict[str, Any]:
    found: dict[str, Any] = {}
    pair: KeyValue
    for pair in pairs:
        found[pair.key] = _value(pair.value)
    return found


def _value(value: AnyValue) -> Any:
    kind = value.WhichOneof("value")
    if kind == "array_value":
        return [_value(one) for one in value.array_value.values]
    if kind == "kvlist_value":
        return _attributes(value.kvlist_value.values)
    if kind == "bytes_value":
        return value.bytes_value.hex()
    return getattr(value, kind) if kind else None
