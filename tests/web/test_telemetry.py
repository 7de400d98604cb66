"""Apps send with the official clients of open protocols: what they sent comes in, and no more."""

from __future__ import annotations

import gzip
import json
import subprocess
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest
from cloudevents.core.bindings.http import to_binary_event, to_structured_event
from cloudevents.core.v1.event import CloudEvent
from google.protobuf.json_format import MessageToDict
from google.rpc.status_pb2 import Status
from opentelemetry._logs import LogRecord, SeverityNumber
from opentelemetry.exporter.otlp.proto.http import Compression
from opentelemetry.exporter.otlp.proto.http._log_exporter import OTLPLogExporter
from opentelemetry.proto.collector.logs.v1.logs_service_pb2 import (
    ExportLogsServiceRequest,
    ExportLogsServiceResponse,
)
from opentelemetry.sdk._logs import LoggerProvider
from opentelemetry.sdk._logs.export import SimpleLogRecordProcessor
from opentelemetry.sdk.resources import Resource

from tests.conftest import Server
from tests.web.test_intake import live_rows, logs, steps

PROTOBUF = "application/x-protobuf"
START = int(datetime(2026, 5, 4, 10, tzinfo=UTC).timestamp()) * 10**9


def key_of(server: Server, app: str) -> dict[str, str]:
    key = server.client.post(f"/api/apps/{app}/ingest-key").json()["key"]
    return {"Authorization": f"Bearer {key}"}


def record(second: int, name: str | None, **attributes: Any) -> LogRecord:
    return LogRecord(
        timestamp=START + second * 10**9,
        severity_number=SeverityNumber.INFO,
        severity_text="INFO",
        body="said",
        event_name=name,
        attributes={key.replace("__", "."): value for key, value in attributes.items()},
    )


@pytest.mark.parametrize("compression", [Compression.NoCompression, Compression.Gzip])
def test_the_official_exporter_is_understood(server: Server, compression: Compression) -> None:
    """An install that signs in is one person; the app's lifecycle, a browser's pages and plain
    lines are what they are."""
    app = server.new_app(f"Telemetry {compression.value}", with_map=False)
    exporter = OTLPLogExporter(
        f"{server.url}/v1/logs", headers=key_of(server, app), compression=compression
    )
    resource = Resource({"service.name": "ferry", "app.installation.id": "i1", "version": "3.2"})
    provider = LoggerProvider(resource)
    provider.add_log_record_processor(SimpleLogRecordProcessor(exporter))
    logger = provider.get_logger("screens", "1.0")
    sent = [
        record(0, "device.app.lifecycle", **{"android.app.state": "created"}),
        record(1, "screen_view", app__screen__name="Board", session__id="s1"),
        record(4, "push", app__screen__name="Detail", user__id="ann", **{"params": {"id": 7}}),
        record(6, None, app__screen__name="Board"),
        record(9, "browser.navigation", **{"url.full": "https://ferry.example/pier/4?x=1"}),
        record(12, "device.app.lifecycle", **{"android.app.state": "background"}),
    ]
    for one in sent:
        logger.emit(one)
    assert provider.force_flush()
    log = live_rows(server, app, len(sent))
    assert (log["rows"], log["users"]) == (len(sent), 1)
    found = [(s["user"], s["screen"], s["move"], s["dwell_ms"]) for s in steps(server, app)]
    assert found == [
        ("ann", "Board", "start", 3000),
        ("ann", "Detail", "push", 5000),
        ("ann", "/pier/4", "push", None),
    ]
    (journey,) = server.get(f"/api/apps/{app}/journeys?sort=longest")["journeys"]
    (row, *_) = server.get(f"/api/apps/{app}/journey/step", key=journey["key"], step=1)["rows"]
    raw = json.loads(row["raw"])
    assert raw["scope.name"] == "screens"
    assert (raw["version"], raw["body"], raw["severity"]) == ("3.2", "said", "INFO")
    logger.emit(sent[1])
    assert provider.force_flush()
    provider.shutdown()
    assert logs(server, app)[0]["duplicates"] == 1


def request_of(*records: dict[str, Any]) -> dict[str, Any]:
    return {"resourceLogs": [{"scopeLogs": [{"logRecords": list(records)}]}], "later": 1}


def told(second: int, **attributes: str) -> dict[str, Any]:
    """A record as the protocol's JSON has it, with ids in hexadecimal."""
    pairs = [{"key": k, "value": {"stringValue": v}} for k, v in attributes.items()]
    return {
        "timeUnixNano": str(START + second * 10**9),
        "eventName": "screen_view",
        "traceId": "5B8EFFF798038103D269B633813FC60C",
        "attributes": pairs,
    }


def test_json_is_answered_in_json_and_what_cannot_be_used_is_told(server: Server) -> None:
    app = server.new_app("Partly", with_map=False)
    headers = {**key_of(server, app), "Content-Type": "application/json; charset=utf-8"}
    good, nobody = told(0, **{"user.id": "u", "app.screen.name": "Home"}), told(1, screen="Home")
    answer = server.client.post("/v1/logs", json=request_of(good, nobody, good), headers=headers)
    assert answer.headers["content-type"] == "application/json"
    partial = answer.json()["partialSuccess"]
    assert (answer.status_code, partial["rejectedLogRecords"]) == (200, "1")
    assert partial["errorMessage"] == "Set aside: no user (1)."
    # The same record twice in one request is two; sent again, both are known.
    again = server.client.post("/v1/logs", json=request_of(good, good), headers=headers)
    assert (again.status_code, again.json()) == (200, {})
    assert logs(server, app)[0]["duplicates"] == 2
    assert live_rows(server, app, 3)["rows"] == 2


@pytest.mark.parametrize(
    ("body", "headers", "status", "says"),
    [
        (b"\xff\xff", {}, 400, "no request to export logs"),
        (b"{", {"Content-Type": "application/json"}, 400, "no request to export logs"),
        (b'{"resourceLogs": 1}', {"Content-Type": "application/json"}, 400, "no request"),
        (b"[" * 100_000, {"Content-Type": "application/json"}, 400, "no request"),
        (b"plain", {"Content-Encoding": "gzip"}, 400, "not gzip"),
        (gzip.compress(bytes(90 << 20))[:-9], {"Content-Encoding": "gzip"}, 400, "larger than"),
        (gzip.compress(b"cut short", mtime=0)[:-9], {"Content-Encoding": "gzip"}, 400, "cut short"),
        (b"", {"Content-Encoding": "br"}, 400, "gzip is"),
        (b"", {"Content-Type": "text/plain"}, 415, "content type"),
        (b"", {"Authorization": "Bearer none"}, 401, "key fits no app"),
        (bytes(9 << 20), {}, 413, "larger than 8 MB"),
    ],
)
def test_what_is_no_telemetry_is_refused_in_the_protocols_words(
    server: Server, body: bytes, headers: dict[str, str], status: int, says: str
) -> None:
    app = server.new_app("Refusing telemetry", with_map=False)
    sent = {**key_of(server, app), "Content-Type": PROTOBUF, **headers}
    answer = server.client.post("/v1/logs", content=body, headers=sent)
    if answer.headers["content-type"] == PROTOBUF:
        message = Status.FromString(answer.content).message
    else:
        message = answer.json()["message"]
    assert (answer.status_code, says in message) == (status, True), message
    assert logs(server, app) == []


def test_nothing_sent_is_a_success(server: Server) -> None:
    app = server.new_app("Silent", with_map=False)
    sent = {**key_of(server, app), "Content-Type": PROTOBUF}
    body = ExportLogsServiceRequest().SerializeToString()
    answer = server.client.post("/v1/logs", content=body, headers=sent)
    assert (answer.status_code, answer.headers["content-type"]) == (200, PROTOBUF)
    assert MessageToDict(ExportLogsServiceResponse.FromString(answer.content)) == {}


@pytest.mark.parametrize("written", [to_binary_event, to_structured_event])
def test_the_official_client_of_cloudevents_is_understood(server: Server, written: Any) -> None:
    app = server.new_app("Events", with_map=False)
    event = CloudEvent(
        {
            "id": "1",
            "source": "https://ferry.example/phone 1",
            "type": "example.ferry.screen_view",
            "specversion": "1.0",
            "time": datetime(2026, 5, 4, 10, 0, 1, tzinfo=UTC),
            "subject": "ann ü",
            "datacontenttype": "application/json",
        },
        {"screen": "Board"},
    )
    message = written(event)
    sent = {**message.headers, **key_of(server, app)}
    answer = server.client.post(f"/api/apps/{app}/events", content=message.body, headers=sent)
    assert (answer.status_code, answer.json()["accepted"]) == (200, 1)
    live_rows(server, app, 1)
    assert [(s["user"], s["screen"]) for s in steps(server, app)] == [("ann ü", "Board")]


@pytest.mark.parametrize("mode", ["binary", "structured"])
def test_the_official_javascript_client_of_cloudevents_is_understood(
    server: Server, mode: str
) -> None:
    app = server.new_app("Events of a browser", with_map=False)
    script = Path(__file__).parents[1] / "conformance" / "cloud_events.mjs"
    url = f"{server.url}/api/apps/{app}/events"
    asked = ["node", str(script), url, key_of(server, app)["Authorization"], mode]
    said = json.loads(subprocess.run(asked, capture_output=True, check=True).stdout)
    assert (said["status"], said["answer"]["accepted"]) == (200, 1)
    live_rows(server, app, 1)
    assert [(s["user"], s["screen"]) for s in steps(server, app)] == [("ann ü", "Board")]
