"""XES (IEEE 1849-2016): traces of events, each with typed attributes."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any

import pyarrow as pa
from lxml import etree

from mossy_trail.intake.errors import UnusableFile
from mossy_trail.intake.formats.json_lines import cut_lines, parse_objects
from mossy_trail.intake.records import Records
from mossy_trail.intake.source import Source

BATCH = 50_000
PLAIN_NAMES = {"time:timestamp": "time", "concept:name": "activity", "org:resource": "resource"}
"""What the standard's own attributes are called, where the event has none of that name."""


class Xes:
    """A trace is a session; its events are rows, counted from 1, and kept as JSON Lines."""

    def description(self) -> dict[str, Any]:
        return {}

    def batches(self, source: Source) -> Iterator[tuple[Records, pa.Table]]:
        rows: list[dict[str, Any]] = []
        for row in _events(source):
            rows.append(row)
            if len(rows) == BATCH:
                yield _batch(source, rows)
                rows = []
        if rows:
            yield _batch(source, rows)


def _batch(source: Source, rows: list[dict[str, Any]]) -> tuple[Records, pa.Table]:
    data = "".join(json.dumps(row, ensure_ascii=False) + "\n" for row in rows).encode()
    records = cut_lines(data, source.line, True)
    source.line += len(records)
    return records, parse_objects(records)


class _Stream:
    """What the parser reads from: the source, unpacked."""

    def __init__(self, source: Source) -> None:
        self.read = source.read


def _events(source: Source) -> Iterator[dict[str, Any]]:
    """Every event with its trace's attributes. No entity is resolved, and nothing is fetched."""
    parser = etree.iterparse(
        _Stream(source),
        events=("start", "end"),
        resolve_entities=False,
        load_dtd=False,
        no_network=True,
        huge_tree=False,
    )
    trace: dict[str, str] = {}
    inside = False
    try:
        for happening, element in parser:
            name = etree.QName(element).localname if isinstance(element.tag, str) else ""
            if happening == "start":
                inside = inside or name == "event"
                if name == "trace":
                    trace = {}
            elif name == "event":
                yield _row(trace, _attributes(element))
                inside = False
                element.clear()
                while element.getprevious() is not None:
                    del element.getparent()[0]
            elif not inside and element.getparent() is not None and "key" in element.attrib:
                if etree.QName(element.getparent()).localname == "trace":
                    trace[element.attrib["key"]] = element.attrib.get("value", "")
            elif name == "trace":
                element.clear()
    except etree.XMLSyntaxError as error:
        raise UnusableFile(
            source.name,
            f"Its XML breaks off or is broken at line {error.lineno or 0:,}: {error.msg}.",
            "Fetch or export the file again.",
        ) from None


def _attributes(event: Any) -> dict[str, str]:
    return {
        child.attrib["key"]: child.attrib.get("value", "")
        for child in event
        if isinstance(child.tag, str) and "key" in child.attrib
    }


def _row(trace: dict[str, str], event: dict[str, str]) -> dict[str, str]:
    """The event with its trace's attributes; how they are to be read is for the mapping.

    Where events bear our own names, a trace is a session, and stands for the user if none is told.
    """
    row = {PLAIN_NAMES.get(key, key): value for key, value in event.items()}
    case = trace.get("concept:name")
    for key, value in trace.items():
        if key != "concept:name":
            row.setdefault(key, value)
    if not {"event", "screen"} & set(row):
        return row if case is None else {"trace": case, **row}
    row.pop("activity", None)
    user = row.pop("resource", None)
    if case is not None:
        row.setdefault("session", case)
    if (user := user or case) is not None:
        row.setdefault("user", user)
    return row
