"""One simulated log, written as teams that never heard of this tool keep theirs."""

from __future__ import annotations

import csv
import gzip
import json
import re
from collections.abc import Callable, Iterable
from datetime import UTC, datetime, timedelta, timezone
from pathlib import Path
from typing import Any
from xml.sax.saxutils import quoteattr

import pyarrow as pa
import pyarrow.parquet as parquet

Row = dict[str, Any]
Written = Callable[[list[Row], Path], Path]
SHAPES: dict[str, Written] = {}


def shape(write: Written) -> Written:
    SHAPES[write.__name__] = write
    return write


def _moment(row: Row) -> datetime:
    return datetime.fromisoformat(row["time"])


def _epoch(row: Row) -> int:
    return round(_moment(row).timestamp() * 1000)


def _spaced(name: str) -> str:
    """`SailingsBoard` as `Sailings Board`."""
    return re.sub(r"(?<=[a-z])(?=[A-Z])", " ", name)


def _snake(name: str) -> str:
    return _spaced(name).replace(" ", "_").lower()


def _params(row: Row) -> dict[str, Any]:
    params = row.get("params")
    return json.loads(params) if isinstance(params, str) else dict(params or {})


_COMMON = ("user", "session", "tab", "uri", "source", "params")


def _as(row: Row, *names: str) -> Row:
    """What rows have in common, in that order under these names; what has none is not told."""
    told = {**row, "params": json.dumps(_params(row)) if _params(row) else ""}
    named = {name: told.get(field, "") for field, name in zip(_COMMON, names, strict=False) if name}
    return {**named, "crew": row["crew"]}


def _csv(
    path: Path, rows: Iterable[Row], delimiter: str = ",", encoding: str = "utf-8", before: str = ""
) -> Path:
    rows = list(rows)
    names = list(dict.fromkeys(name for row in rows for name in row))
    with path.open("w", newline="", encoding=encoding) as file:
        file.write(before)
        writer = csv.DictWriter(file, names, delimiter=delimiter, restval="")
        writer.writeheader()
        writer.writerows(rows)
    return path


def _lines(path: Path, rows: Iterable[Row]) -> Path:
    path.write_text("".join(json.dumps(row, ensure_ascii=False) + "\n" for row in rows))
    return path


def _some(row: Row) -> Row:
    return {key: value for key, value in row.items() if value not in (None, "", {})}


_SAYS = {
    "app_start": "App Launched",
    "app_background": "App Backgrounded",
    "app_foreground": "App Foregrounded",
    "screen_view": "Screen Viewed",
    "switch_tab": "Tab Selected",
    "open_modal": "Sheet Opened",
    "close_modal": "Sheet Closed",
    "open_link": "Deep Link Opened",
    "sign_out": "Logged Out",
    "session_restored": "Session Restored",
}


def _said(row: Row, account: str = "login") -> str:
    """The event in other words, an outcome in the same word."""
    event = row["event"]
    if event in ("sign_in", "sign_up"):
        ended = {"attempt": "attempt", "ok": "success", "failed": "failed"}[row["outcome"]]
        return f"{account if event == 'sign_in' else 'signup'}_{ended}"
    return _SAYS.get(event, event)


@shape
def outcome_in_the_word(rows: list[Row], folder: Path) -> Path:
    return _csv(
        folder / "events.csv",
        (
            {
                "event_time": row["time"],
                "event_name": _said(row),
                "screen_name": row.get("screen", ""),
                "previous_screen": row.get("from", ""),
                "steps_back": row.get("count", ""),
                "user_agent": "Skerry/3.2 (Linux; Android 14) Mobile",
                "app_version": row["version"],
                **_as(
                    row,
                    "device_id",
                    "visit_id",
                    "active_tab",
                    "link",
                    "link_source",
                    "screen_params",
                ),
            }
            for row in rows
        ),
    )


@shape
def outcome_in_its_own_column(rows: list[Row], folder: Path) -> Path:
    ended = {"attempt": "started", "ok": "success", "failed": "error"}
    return _lines(
        folder / "auth.jsonl",
        (
            _some(
                {
                    "timestamp": _epoch(row),
                    "clientId": row["user"],
                    "sessionId": row["session"],
                    "action": {"sign_in": "auth", "sign_up": "signup"}.get(row["event"], _said(row))
                    if row["event"] in ("sign_in", "sign_up")
                    else _said(row),
                    "result": ended.get(row.get("outcome", ""), ""),
                    "toScreen": row.get("screen"),
                    "fromScreen": row.get("from"),
                    "tab": row.get("tab"),
                    "deeplink": row.get("uri"),
                    "channel": row.get("source"),
                    "args": _params(row),
                    "crew": row["crew"],
                }
            )
            for row in rows
        ),
    )


@shape
def nested_members(rows: list[Row], folder: Path) -> Path:
    return _lines(
        folder / "nested.jsonl",
        (
            {
                "ts": row["time"],
                "context": {"install": {"id": row["user"]}, "session_id": row["session"]},
                "name": _said(row, "otp"),
                "crew": row["crew"],
                "properties": _some(
                    {
                        "screen": row.get("screen"),
                        "from_screen": row.get("from"),
                        "tab": row.get("tab"),
                        "url": row.get("uri"),
                        "source": row.get("source"),
                        "params": _params(row),
                    }
                ),
            }
            for row in rows
        ),
    )


@shape
def members_of_params(rows: list[Row], folder: Path) -> Path:
    return _csv(
        folder / "packed.csv",
        (
            {
                "occurred_at": row["time"],
                "install": row["user"],
                "session": row["session"],
                "event": _said(row),
                "crew": row["crew"],
                "params": json.dumps(
                    _some(
                        {
                            "screen_name": row.get("screen"),
                            "previous_screen": row.get("from"),
                            "tab": row.get("tab"),
                            "uri": row.get("uri"),
                            "source": row.get("source"),
                            **_params(row),
                        }
                    )
                ),
            }
            for row in rows
        ),
    )


@shape
def viewed_x_screen(rows: list[Row], folder: Path) -> Path:
    def word(row: Row) -> str:
        if row["event"] == "screen_view":
            return f"Viewed {_spaced(row['screen'])} Screen"
        return _said(row)

    return _csv(
        folder / "phrases.csv",
        (
            {
                "Time": row["time"],
                "Event": word(row),
                "Screen": "" if row["event"] == "screen_view" else _spaced(row.get("screen", "")),
                **_as(row, "Visitor ID", "Visit", "Tab", "Link", "Source", "Params"),
            }
            for row in rows
        ),
        delimiter=";",
    )


@shape
def screen_in_a_code(rows: list[Row], folder: Path) -> Path:
    def word(row: Row) -> str:
        return (
            f"screen_{_snake(row['screen'])}_shown" if row["event"] == "screen_view" else _said(row)
        )

    return _csv(
        folder / "codes.tsv",
        (
            {
                "ts": _epoch(row),
                "type": word(row),
                "target_screen": "" if row["event"] == "screen_view" else row.get("screen", ""),
                **_as(row, "uid", "session_id", "selected_tab", "uri", "source", "params"),
            }
            for row in rows
        ),
        delimiter="\t",
    )


@shape
def day_and_time_of_day(rows: list[Row], folder: Path) -> Path:
    return _csv(
        folder / "days.csv",
        (
            {
                "Date": f"{_moment(row):%d/%m/%Y}",
                "Time of day": f"{_moment(row):%H:%M:%S.%f}",
                "Customer e-mail": f"{row['user']}@skerry.example",
                "Action": _said(row),
                "Page": row.get("screen", ""),
                **_as(row, "Customer", "Session", "Tab", "Link", "Source", "Params"),
            }
            for row in rows
        ),
        before="# Skerry Crossings\n# exported for the analysts\n",
    )


@shape
def times_as_people_write(rows: list[Row], folder: Path) -> Path:
    return _csv(
        folder / "written.csv",
        (
            {
                "When": f"{_moment(row):%B %d, %Y %I:%M:%S.%f %p}",
                "What": _said(row),
                "Scene": row.get("screen", ""),
                **_as(row, "Member", "Visit", "Section", "Deeplink", "Medium", "Arguments"),
            }
            for row in rows
        ),
    )


@shape
def times_with_a_zone_in_words(rows: list[Row], folder: Path) -> Path:
    return _csv(
        folder / "utc.csv",
        (
            {
                "logged": f"{_moment(row):%Y-%m-%d %H:%M:%S.%f} UTC",
                "happening": _said(row, "signin"),
                "place": row.get("screen", ""),
                "tier": "Fähre",
                **_as(row, "person", "sitting", "tab", "href", "source", "params"),
            }
            for row in rows
        ),
        encoding="cp1252",
    )


@shape
def one_object_with_all_events(rows: list[Row], folder: Path) -> Path:
    path = folder / "export.json"
    events = [
        _some(
            {
                "createdAt": row["time"],
                "deviceId": row["user"],
                "sessionId": row["session"],
                "eventType": _said(row),
                "screenName": row.get("screen"),
                "tabName": row.get("tab"),
                "deepLink": row.get("uri"),
                "source": row.get("source"),
                "params": _params(row),
                "crew": row["crew"],
            }
        )
        for row in rows
    ]
    path.write_text(json.dumps({"exported": "2026-06-01", "n": len(events), "events": events}))
    return path


@shape
def nanoseconds_in_columns(rows: list[Row], folder: Path) -> Path:
    path = folder / "warehouse.parquet"
    moments = pa.array([_epoch(row) * 1_000_000 for row in rows], pa.int64())
    table = {
        "event_ts": moments.cast(pa.timestamp("ns", "UTC")),
        "received_ts": pa.array([_epoch(row) * 1_000_000 + 9 * 10**10 for row in rows]).cast(
            pa.timestamp("ns", "UTC")
        ),
        "install_id": pa.array([row["user"] for row in rows]).dictionary_encode(),
        "session_id": [row["session"] for row in rows],
        "event_name": pa.array([_said(row) for row in rows]).dictionary_encode(),
        "screen": [row.get("screen") for row in rows],
        "tab": [row.get("tab") for row in rows],
        "uri": [row.get("uri") for row in rows],
        "source": [row.get("source") for row in rows],
        "params": [json.dumps(_params(row)) if _params(row) else None for row in rows],
        "battery": pa.array([0.5] * len(rows)),
        "crew": [row["crew"] for row in rows],
    }
    parquet.write_table(pa.table(table), path)
    return path


@shape
def traces_of_another_tool(rows: list[Row], folder: Path) -> Path:
    """XES with attributes of its own."""
    sessions: dict[str, list[Row]] = {}
    for row in rows:
        sessions.setdefault(row["session"], []).append(row)

    def attribute(key: str, value: Any, kind: str = "string") -> str:
        return f"<{kind} key={quoteattr(key)} value={quoteattr(str(value))}/>" if value else ""

    traces = []
    for name, own in sessions.items():
        events = "".join(
            "<event>"
            + attribute("time:timestamp", row["time"], "date")
            + attribute("concept:name", _said(row))
            + attribute("screen_name", row.get("screen"))
            + attribute("tab", row.get("tab"))
            + attribute("link", row.get("uri"))
            + attribute("source", row.get("source"))
            + attribute("params", json.dumps(_params(row)) if _params(row) else "")
            + "</event>"
            for row in own
        )
        traces.append(
            f"<trace>{attribute('concept:name', name)}{attribute('customer', own[0]['user'])}"
            f"{attribute('crew', own[0]['crew'])}"
            f"{events}</trace>"
        )
    path = folder / "traces.xes"
    path.write_text(f'<?xml version="1.0"?><log xes.version="2.0">{"".join(traces)}</log>')
    return path


@shape
def cases_and_spaces(rows: list[Row], folder: Path) -> Path:
    """Names of screens in other spellings than the map's, packed by gzip."""
    spellings = (str.upper, _spaced, _snake, lambda name: name + " ")
    path = folder / "spelled.jsonl.gz"
    with gzip.open(path, "wt") as file:
        for number, row in enumerate(rows):
            spell = spellings[number % len(spellings)]
            own = {
                "happenedAt": row["time"],
                "visitorId": row["user"],
                "visitId": row["session"],
                "event": _said(row),
                "page": spell(row["screen"]) if row.get("screen") else None,
                "tab": row.get("tab", "").lower(),
                "url": row.get("uri"),
                "source": row.get("source"),
                "params": _params(row),
                "crew": row["crew"],
            }
            file.write(json.dumps(_some(own)) + "\n")
    return path


@shape
def only_an_email(rows: list[Row], folder: Path) -> Path:
    zone = timezone(timedelta(hours=2))
    return _csv(
        folder / "mail.csv",
        (
            {
                "datetime": _moment(row).astimezone(zone).isoformat(),
                "email": f"{row['user']}@skerry.example",
                "event": _said(row),
                "page_name": row.get("screen", ""),
                "row_id": f"r-{number:06}",
                **_as(row, "", "session_key", "tab", "link", "source", "params"),
            }
            for number, row in enumerate(rows)
        ),
        delimiter="|",
    )


@shape
def no_session_and_seconds(rows: list[Row], folder: Path) -> Path:
    return _csv(
        folder / "seconds.csv",
        (
            {
                "unixtime": f"{_moment(row).replace(tzinfo=UTC).timestamp():.3f}",
                "verb": _said(row),
                "view": row.get("screen", ""),
                **_as(row, "anonymous_id", "", "tab", "link_url", "source", "parameters"),
            }
            for row in rows
        ),
    )


def address(screen: str, params: dict[str, Any]) -> str:
    """Where a site would have this screen."""
    rest = "".join(f"/{value}" for value in params.values())
    return f"https://skerry.example/{_snake(screen)}{rest}"


@shape
def whole_addresses(rows: list[Row], folder: Path) -> Path:
    """A site's log: pages are addresses, with campaigns in their queries."""
    return _csv(
        folder / "site.csv",
        (
            {
                "server_time": row["time"],
                "client_time": row["time"],
                "event": "pageview" if row["event"] == "screen_view" else _said(row),
                "page_url": address(row["screen"], _params(row))
                + ("?from=mail" if number % 7 else "")
                if row.get("screen")
                else "",
                "referrer": address(row["from"], {}) if row.get("from") else "",
                **_as(row, "visitor", "visit", "tab", "link", "source"),
            }
            for number, row in enumerate(rows)
        ),
    )


@shape
def keys_that_come_late(rows: list[Row], folder: Path) -> Path:
    """The rows of starts come first, so that screens are first told of after hundreds of rows."""
    early = [
        {
            "ts": _epoch(row),
            "uid": row["user"],
            "sid": row["session"],
            "kind": "App Launched",
            "crew": row["crew"],
        }
        for row in rows
        if row["event"] == "app_start"
    ]
    late = [
        _some(
            {
                "ts": _epoch(row),
                "uid": row["user"],
                "sid": row["session"],
                "kind": _said(row),
                "ui": {"screen": row.get("screen"), "tab": row.get("tab")},
                "uri": row.get("uri"),
                "source": row.get("source"),
                "params": _params(row),
                "crew": row["crew"],
            }
        )
        for row in rows
        if row["event"] != "app_start"
    ]
    return _lines(folder / "late.jsonl", [*early, *late])
