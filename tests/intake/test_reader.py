"""Reading files: every good row is kept, every other one is listed, no file brings it down."""

from __future__ import annotations

import csv
import io
import json
from datetime import datetime
from pathlib import Path
from typing import Any
from unittest.mock import patch

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mossy_trail.core.model.log import EVENTS, NONE, Log
from mossy_trail.intake import pile, records
from mossy_trail.intake.errors import UnusableFile
from mossy_trail.intake.formats import csv as csv_form
from mossy_trail.intake.formats.csv import Csv
from mossy_trail.intake.reader import Reading, raw_record, read_files
from mossy_trail.intake.times import Times
from tests.campaign import examples
from tests.conftest import Demo
from tests.intake.reading import read_and_keep

HEADER = b"time,user,event,screen,params,version\n"


def read(folder: Path, data: bytes, name: str = "log.csv") -> Reading:
    path = folder / name
    path.write_bytes(data)
    return read_files([path])


def aside(reading: Reading) -> list[tuple[int, str]]:
    return sorted((row.line, row.reason) for row in reading.set_aside)


def test_good_rows_of_a_broken_csv_are_kept_and_bad_ones_listed(tmp_path: Path) -> None:
    lines = [
        b"2026-05-04T10:00:00Z,ann,screen_view,A,,1",
        b"2026-05-04T10:00:01Z,ann,screen_view,B",
        b"yesterday,ann,screen_view,C,,1",
        b"2026-05-04T10:00:02Z,,screen_view,D,,1",
        b"2026-05-04T10:00:03Z,ann,screen_view,\xff\xfe,,1",
        b"2026-05-04T10:00:04Z,ann,screen_view," + b"x" * 1_000_000 + b",,1",
        b"2026-05-04T10:00:05Z,ann,,,,1",
        b'2026-05-04T10:00:06Z,ann,screen_view,"open,,1',
        b"",
        b'2026-05-04T10:00:07Z,ann,screen_view,"two\nlines","{""a"": 1}",1',
        b'2026-05-04T10:00:08Z,ann,screen_view,"bad"ly,,1',
        "2026-05-04T12:00:09+02:00,ann,screen_view,Schären 🚢,,1".encode(),
    ]
    reading = read(tmp_path, HEADER + b"\n".join(lines))
    assert [reading.log.text("screen", i) for i in range(len(reading.log))] == [
        "A",
        "two\nlines",
        "Schären 🚢",
    ]
    assert list(reading.log.columns["line"]) == [2, 11, 14]
    assert [reason for _, reason in aside(reading)] == [
        "wrong number of columns",
        "time cannot be read",
        "no user",
        "not valid UTF-8",
        "longer than 65,536 bytes",
        "neither event nor screen",
        "quotes that do not close",
        "quotes that do not close",
    ]
    assert [line for line, _ in aside(reading)] == [3, 4, 5, 6, 7, 8, 9, 13]
    assert reading.rows_read == 11
    texts = {row.line: row.text for row in reading.set_aside}
    assert texts[6].endswith("\\xff\\xfe,,1")
    assert len(texts[7]) == 2000


def test_good_rows_of_broken_json_lines_are_kept_and_bad_ones_listed(tmp_path: Path) -> None:
    lines = [
        b'{"time": 1777888800, "user": "ann", "screen": "A", "params": {"b": 1.0, "a": "x"}}',
        b'{"time": 1777888801, "user": "ann", "screen": "B", "tier": 3}',
        b'{"time": 1777888802, "user": "ann",}',
        b"[1, 2]",
        b'{"time": "soon", "user": "ann", "screen": "C"}',
        b'{"time": 1777888803, "user": "\xff", "screen": "D"}',
        b"",
        b"[" * 40_000,
        b'{"time": 1777888804, "user": "' + b"u" * 1_000_000 + b'", "screen": "E"}',
        b'{"time": 1777888805.5, "user": "b\\u0000b", "screen": "F", "ok": true}',
    ]
    reading = read(tmp_path, b"\n".join(lines), "log.jsonl")
    log = reading.log
    assert list(log.columns["line"]) == [1, 2, 10]
    assert [log.text("screen", i) for i in range(3)] == ["A", "B", "F"]
    assert [log.text("props", i) for i in range(3)] == [None, '{"tier": "3"}', '{"ok": "true"}']
    assert json.loads(log.text("params", 0) or "") == {"a": "x", "b": 1}
    assert log.text("user", 2) == "b␀b"
    assert list(log.columns["time"] % 60_000_000) == [0, 1_000_000, 5_500_000]
    assert aside(reading) == [
        (3, "not a JSON object"),
        (4, "not a JSON object"),
        (5, "time cannot be read"),
        (6, "not valid UTF-8"),
        (8, "nested too deeply"),
        (9, "longer than 65,536 bytes"),
    ]


@pytest.mark.parametrize(
    ("name", "data", "says"),
    [
        ("empty.csv", b"", "The file is empty"),
        ("blank.csv", b" \n\r\n", "The file is empty"),
        ("picture.csv", b"\x89PNG\r\n\x1a\n" + bytes(99), "a PNG picture"),
        ("zip.csv", b"PK\x03\x04....", "ZIP archive"),
        ("noise.csv", bytes(range(256)) * 4, "a binary file"),
        (
            "no-time.csv",
            b"user,event\na,push\n",
            "taken for a time. Its columns are “user”, “event”",
        ),
        ("no-user.csv", b"\ntime,screen\n1777888800,A\n", "No column can be taken for a user."),
        ("no-event.csv", b"time,user\n1777888800,A\n", "for an event or a screen"),
        ("head.csv", HEADER, "no row under the first line"),
        ("bad.csv", HEADER + b"x,y,z\n", "None of its 1 rows can be used; line 2: wrong number"),
        ("array.json", b'[{"time": 1}]', "for a user or for an event or a screen"),
        ("one-line.csv", b"a" * 200_000, "first line has no end"),
        ("unknown.csv", b"time,user,\xff\xfe\n", "Line 1 is not UTF-8"),
        ("half.jsonl", b'{"time": 1', "line 1: not a JSON object"),
    ],
)
def test_a_file_that_is_no_log_gets_one_clear_message(
    tmp_path: Path, name: str, data: bytes, says: str
) -> None:
    with pytest.raises(UnusableFile) as raised:
        read(tmp_path, data, name)
    assert says in raised.value.what
    assert raised.value.file == name
    assert raised.value.mend.endswith(".")


def test_a_line_without_end_is_refused_before_it_fills_the_memory(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(records, "LONGEST_LINE", 1 << 20)
    monkeypatch.setattr(records, "BLOCK", 1 << 18)
    with pytest.raises(UnusableFile, match="Line 2 goes on for more than 1 MB"):
        read(tmp_path, HEADER + b"x" * (3 << 20))


@pytest.mark.parametrize(
    ("text", "microseconds"),
    [
        ("2026-05-04T10:00:00Z", 1777888800_000_000),
        ("2026-05-04 10:00:00.123456", 1777888800_123_456),
        ("2026-05-04T12:30:00+02:30", 1777888800_000_000),
        ("1777888800", 1777888800_000_000),
        ("1777888800123", 1777888800_123_000),
        ("1777888800123456", 1777888800_123_456),
        ("1777888800123456789", 1777888800_123_456),
        ("1777888800.25", 1777888800_250_000),
        ("2026-13-04T10:00:00Z", None),
        ("2026-05-04T25:00:00Z", None),
        ("nan", None),
        ("-", None),
    ],
)
def test_times(tmp_path: Path, text: str, microseconds: int | None) -> None:
    """Each alone in its file, and beside one that cannot be read, which takes the slower way."""
    alone, beside = (
        HEADER + f"{text},a,push,A,,\n{rest}".encode()
        for rest in ("", "2026-05-04T10:00:00Z,b,push,B,,\nnever,c,push,C,,\n")
    )
    if microseconds is None:
        with pytest.raises(UnusableFile, match="time cannot be read"):
            read(tmp_path, alone)
        assert aside(read(tmp_path, beside)) == [
            (2, "time cannot be read"),
            (4, "time cannot be read"),
        ]
    else:
        assert list(read(tmp_path, alone).log.columns["time"]) == [microseconds]
        assert read(tmp_path, beside).log.columns["time"][0] == microseconds


MOMENTS = st.datetimes(datetime(1995, 1, 1), datetime(2090, 1, 1)).map(str)
TIMES = st.one_of(
    MOMENTS,
    st.builds("{}{}".format, MOMENTS, st.sampled_from(["Z", "+02:00", "-0930"])),
    st.sampled_from(["2026-02-31 10:00:00", "2026-02-31T10:00:00Z", "never", "", "2026-05-04"]),
    st.integers(700_000_000, 4_000_000_000).map(str),
    st.none(),
)


@examples(300)
@given(texts=st.lists(TIMES, min_size=1, max_size=12), zone=st.sampled_from(["UTC", "Europe/Oslo"]))
def test_a_time_reads_alike_whatever_stands_beside_it(texts: list[str | None], zone: str) -> None:
    def read_all(column: list[str | None]) -> list[int]:
        return list(
            Times("recognised", zone).read(pa.chunked_array([pa.array(column, pa.string())]))
        )

    assert read_all(texts) == [moment for text in texts for moment in read_all([text])]


def test_unknown_words_and_missing_values(tmp_path: Path) -> None:
    data = (
        b"\xef\xbb\xbftime;user;event;screen;outcome;count;order;plan;\r\n"
        b"1777888800;a;tapped;A;;x;1;gold;\r\n"
        b"1777888801;a;;B;ok;3;;;9\r\n"
    )
    log = read(tmp_path, data).log
    assert [EVENTS[e] for e in log.columns["event"]] == ["custom", "screen_view"]
    assert [log.text("word", i) for i in (0, 1)] == ["tapped", None]
    assert list(log.columns["outcome"]) == [NONE, 1]
    assert list(log.columns["count"]) == [NONE, 3]
    assert list(log.columns["order"]) == [1, NONE]
    assert [log.text("props", i) for i in (0, 1)] == ['{"plan": "gold"}', '{"column 9": "9"}']
    assert log.text("session", 0) is None


TEXT = st.characters(codec="utf-8", exclude_categories=["Cc"]) | st.sampled_from("\n\r\t")
CELL = st.text(TEXT, max_size=12)
ROW = st.tuples(CELL, CELL, CELL, CELL)


@examples(150)
@given(
    rows=st.lists(ROW, min_size=1, max_size=12),
    end=st.sampled_from(["\n", "\r\n"]),
    block=st.integers(40, 400),
    quoting=st.sampled_from([csv.QUOTE_MINIMAL, csv.QUOTE_ALL]),
)
def test_any_csv_reads_as_the_standard_library_reads_it(
    tmp_path_factory: pytest.TempPathFactory,
    rows: list[tuple[str, ...]],
    end: str,
    block: int,
    quoting: Any,
) -> None:
    text = io.StringIO()
    writer = csv.writer(text, lineterminator=end, quoting=quoting)
    writer.writerow(["time", "user", "screen", "params", "note"])
    if end == "\n" and quoting == csv.QUOTE_MINIMAL:
        # The writer leaves a lone return bare here, which is a line end to others.
        rows = [tuple(cell.replace("\r", "") for cell in row) for row in rows]
    for screen, params, remark, _ in rows:
        writer.writerow(["1777888800", "u", f"s{screen}", params, remark])
    before = records.BLOCK
    records.BLOCK = block
    try:
        folder = tmp_path_factory.mktemp("csv")
        reading = read(folder, text.getvalue().encode())
    finally:
        records.BLOCK = before
    assert reading.set_aside == []
    found = [
        (reading.log.text("screen", i), reading.log.text("params", i), note(reading.log, i))
        for i in range(len(reading.log))
    ]
    assert found == [(f"s{s}", canonical(p), n or None) for s, p, n, _ in rows]


def note(log: Log, row: int) -> str | None:
    text = log.text("props", row)
    return json.loads(text)["note"] if text else None


def canonical(text: str) -> str | None:
    try:
        return json.dumps(json.loads(text, strict=False), sort_keys=True, ensure_ascii=False)
    except ValueError:
        return text or None


@examples(1000)
@given(st.lists(st.sampled_from('a,,""\n\n\r;'), max_size=24), st.sampled_from(["\n", "\r\n"]))
def test_records_cut_by_line_ends_are_those_cut_by_every_byte(marks: list[str], end: str) -> None:
    form, data = Csv(",", ["a", "b", "c"]), "".join(marks).replace("\n", end).encode()

    def cut() -> tuple[list[list[int]], Any]:
        records = form.cutter()(data, 5, True)
        table = form.parse(records)
        columns = (records.starts, records.ends, records.lines, records.flaws)
        return [column.tolist() for column in columns], table.to_pydict()

    with patch.object(csv_form, "_one_a_line", return_value=None):
        by_every_byte = cut()
    assert cut() == by_every_byte


@examples(200)
@given(st.data())
def test_mutilated_files_lose_no_untouched_row(
    tmp_path_factory: pytest.TempPathFactory, data: st.DataObject
) -> None:
    """Break some lines of a log at random: each other line is still read, and all are counted."""
    form = data.draw(st.sampled_from(["csv", "jsonl"]))
    count = data.draw(st.integers(2, 30))
    if form == "csv":
        lines = [f'{1777888800 + i},u,push,S{i},"{{""n"": {i}}}",1' for i in range(count)]
    else:
        base: dict[str, Any] = {"user": "u", "event": "push", "params": {"n": 1}}
        lines = [
            json.dumps({"time": 1777888800 + i, **base, "screen": f"S{i}"}) for i in range(count)
        ]
    broken = data.draw(st.sets(st.integers(1, count - 1), max_size=count // 2))
    raw = [line.encode() for line in lines]
    for i in broken:
        junk = data.draw(st.binary(max_size=8).filter(lambda b: not {10, 13} & set(b)))
        at = data.draw(st.integers(0, len(raw[i])))
        raw[i] = raw[i][:at] + junk + raw[i][at + data.draw(st.integers(0, 6)) :]
    head = HEADER if form == "csv" else b""
    folder = tmp_path_factory.mktemp("broken")
    reading = read(folder, head + b"\n".join(raw) + b"\n", f"log.{form}")
    found = {reading.log.text("screen", i) for i in range(len(reading.log))}
    assert {f"S{i}" for i in range(count) if i not in broken} <= found
    filled = sum(1 for line in raw if line)
    if form == "csv":
        # Two broken lines can make one sound record between them.
        assert count - len(broken) <= reading.rows_read <= filled
    else:
        assert reading.rows_read == filled


def test_raw_records_come_back_byte_for_byte(tmp_path: Path) -> None:
    data = HEADER + b'1777888800,a,push,"x\n""y""",,1\r\n1777888801,a,push,z,,1\n'
    path = tmp_path / "log.csv"
    path.write_bytes(data)
    reading, kept = read_and_keep(path)
    ((first, block),) = kept[0].pieces()
    assert first == 2
    found = [raw_record(reading.files[0], block, 2, line) for line in (2, 3, 4)]
    assert found == [b'1777888800,a,push,"x\n""y""",,1', None, b"1777888801,a,push,z,,1"]


def test_both_forms_of_a_log_read_alike(demo_log: Log, demo: Any) -> None:
    other = read_files([demo.json_lines]).log
    assert len(other) == len(demo_log)
    for name in demo_log.columns:
        if name in ("file", "line", "props"):
            continue
        if name in ("time", "event", "outcome", "count", "via", "order"):
            assert np.array_equal(demo_log.columns[name], other.columns[name]), name
        else:
            ours = [demo_log.text(name, i) for i in range(0, len(demo_log), 97)]
            assert ours == [other.text(name, i) for i in range(0, len(other), 97)], name


def test_rows_that_memory_is_not_to_hold_are_piled_up_in_files(
    demo: Demo, monkeypatch: pytest.MonkeyPatch
) -> None:
    in_memory = read_files([demo.csv, demo.json_lines]).log
    monkeypatch.setattr(pile, "FEW", 500)
    monkeypatch.setattr(pile, "MOST_IN_MEMORY", 1000)
    in_files = read_files([demo.csv, demo.json_lines]).log
    assert in_files.terms == in_memory.terms
    for name, column in in_memory.columns.items():
        assert in_files.columns[name].dtype == column.dtype
        assert np.array_equal(in_files.columns[name], column), name
        in_files.columns[name][0] = 0  # it is one's own
