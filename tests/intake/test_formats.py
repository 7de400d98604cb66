"""The same log in every format, packing and encoding reads alike; damaged ones say where."""

from __future__ import annotations

import gzip
import json
import tracemalloc
from collections.abc import Callable
from contextlib import suppress
from decimal import Decimal
from pathlib import Path
from typing import Any
from xml.sax.saxutils import quoteattr

import numpy as np
import polars as pl
import pyarrow as pa
import pyarrow.parquet as parquet_file
import pytest
from hypothesis import HealthCheck, given
from hypothesis import strategies as st

from mossy_trail.core.model.log import DICTIONARY_OF, DTYPES, Log
from mossy_trail.intake import coding, records, source
from mossy_trail.intake.errors import UnusableFile
from mossy_trail.intake.formats import parquet as parquet_form
from mossy_trail.intake.reader import (
    LogFile,
    Progress,
    Reading,
    Watcher,
    look,
    preview,
    raw_record,
    read_files,
    read_log,
)
from tests.campaign import examples
from tests.conftest import Demo
from tests.intake.reading import read_and_keep, read_kept

ROWS = 3000
NOT_COMPARED = ("file", "line")


def contents(log: Log) -> dict[str, list[Any]]:
    """Every column in words, so that logs can be compared whatever their codes are."""
    found: dict[str, list[Any]] = {}
    for name in DTYPES:
        if name in NOT_COMPARED:
            continue
        column = log.columns[name].tolist()
        if name in DICTIONARY_OF:
            terms = [*log.terms[DICTIONARY_OF[name]], None]
            column = [terms[code] for code in column]
        found[name] = column
    found["props"] = [json.loads(text) if text else {} for text in found["props"]]
    return found


@pytest.fixture(scope="module")
def lines(demo: Demo) -> list[str]:
    return demo.csv.read_text().splitlines()[: ROWS + 1]


@pytest.fixture(scope="module")
def objects(demo: Demo) -> list[dict[str, Any]]:
    return [json.loads(line) for line in demo.json_lines.read_text().splitlines()[:ROWS]]


def tabbed(lines: list[str]) -> bytes:
    frame = pl.read_csv("\n".join(lines).encode(), infer_schema=False)
    return frame.write_csv(separator="\t").encode()


def xes(objects: list[dict[str, Any]]) -> bytes:
    """Sessions as traces, with our names for attributes, and the standard's for the time."""
    traces: dict[str, list[dict[str, Any]]] = {}
    for row in objects:
        traces.setdefault(row["session"], []).append(row)
    text = ['<?xml version="1.0"?><log xmlns="http://www.xes-standard.org/">']
    for session, rows in traces.items():
        text.append(f'<trace><string key="concept:name" value={quoteattr(session)}/>')
        for row in rows:
            text.append(f'<event><date key="time:timestamp" value={quoteattr(row["time"])}/>')
            for key, value in row.items():
                if key not in ("time", "session"):
                    shown = value if isinstance(value, str) else json.dumps(value)
                    text.append(f"<string key={quoteattr(key)} value={quoteattr(shown)}/>")
            text.append("</event>")
        text.append("</trace>")
    return "".join([*text, "</log>"]).encode()


def parquet(objects: list[dict[str, Any]], path: Path) -> bytes:
    moment = pl.col("time").str.to_datetime(time_zone="UTC")
    pl.DataFrame(objects, infer_schema_length=None).with_columns(moment).write_parquet(path)
    return path.read_bytes()


FORMS: dict[str, Callable[[list[str], list[dict[str, Any]], Path], bytes]] = {
    "log.tsv": lambda lines, _, __: tabbed(lines),
    "log.csv.gz": lambda lines, _, __: gzip.compress("\n".join(lines).encode()),
    "log.csv.zst": lambda lines, _, __: pa.compress("\n".join(lines).encode(), "zstd", True),
    "utf-16-le.csv": lambda lines, _, __: "\n".join(lines).encode("utf-16"),
    "utf-16-be.csv": lambda lines, _, __: b"\xfe\xff" + "\r\n".join(lines).encode("utf-16-be"),
    "array.json": lambda _, objects, __: json.dumps(objects).encode(),
    "pretty.json.gz": lambda _, objects, __: gzip.compress(json.dumps(objects, indent=2).encode()),
    "log.xes": lambda _, objects, __: xes(objects),
    "log.xes.gz": lambda _, objects, __: gzip.compress(xes(objects)),
    "log.parquet": lambda _, objects, path: parquet(objects, path),
}


@pytest.mark.parametrize("name", FORMS)
def test_every_format_reads_alike(
    lines: list[str],
    objects: list[dict[str, Any]],
    tmp_path: Path,
    name: str,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr(records, "BLOCK", 100_000)
    plain = read(tmp_path, "\n".join(lines).encode(), "plain.csv")
    monkeypatch.setattr(records, "PIECE", 10_000)
    path = tmp_path / name
    path.write_bytes(FORMS[name](lines, objects, tmp_path / "made.parquet"))
    other, blocks = read_and_keep(path)
    assert other.set_aside == []
    again = read_kept(other, blocks)
    assert again.set_aside == []
    assert contents(again.log) == contents(other.log)
    assert np.array_equal(again.log.columns["line"], other.log.columns["line"])
    gone = set(range(5, 900, 7))
    fewer = read_kept(other, blocks, gone)
    left = [i for i, line in enumerate(other.log.columns["line"]) if line not in gone]
    assert fewer.set_aside == []
    assert contents(fewer.log) == contents(other.log.take(np.array(left)))
    ours, theirs = contents(plain.log), contents(other.log)
    if ".xes" in name:  # by session there, by time here
        order = np.argsort(np.array(ours["session"]), kind="stable")
        ours = {key: [column[i] for i in order] for key, column in ours.items()}
        order = np.argsort(np.array(theirs["session"]), kind="stable")
        theirs = {key: [column[i] for i in order] for key, column in theirs.items()}
    for key in ours:
        assert theirs[key] == ours[key], key


def read(folder: Path, data: bytes, name: str) -> Reading:
    path = folder / name
    path.write_bytes(data)
    return read_files([path])


BILLION = (
    '<?xml version="1.0"?><!DOCTYPE l [<!ENTITY a "xxxxxxxxxx">'
    + "".join(
        f'<!ENTITY {b} "{f"&{a};" * 10}">' for a, b in zip("abcdefgh", "bcdefghi", strict=True)
    )
    + ']><log><trace><event><string key="user" value="&i;"/></event></trace></log>'
)


@pytest.mark.parametrize(
    ("name", "damage", "says"),
    [
        ("log.csv.gz", lambda data: data[: len(data) // 2], "Its gzip breaks off after"),
        ("log.csv.zst", lambda data: data[: len(data) // 2], "Its zstd breaks off after"),
        ("log.csv.gz", lambda data: data[:40] + b"????" + data[44:], "Its gzip breaks off"),
        ("log.parquet", lambda data: data[: len(data) // 2], "Its Parquet data cannot be read"),
        ("log.parquet", lambda data: gzip.compress(data), "a packed Parquet file"),
        ("log.xes", lambda data: data[: len(data) // 2], "Its XML breaks off"),
        ("log.xes", lambda _: b"<html><p>Sign in first</p></html>", "no row under the first"),
        ("log.xes", lambda _: BILLION.encode(), "Its XML breaks off or is broken"),
        ("array.json", lambda _: b"[]", "no row under the first line"),
    ],
)
def test_damaged_files_say_where_and_what_to_do(
    lines: list[str],
    objects: list[dict[str, Any]],
    tmp_path: Path,
    name: str,
    damage: Callable[[bytes], bytes],
    says: str,
) -> None:
    data = damage(FORMS[name](lines, objects, tmp_path / "made.parquet"))
    with pytest.raises(UnusableFile) as raised:
        read(tmp_path, data, name)
    assert says in raised.value.what
    assert raised.value.mend.endswith(".")


@examples(150, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(data=st.data())
def test_a_mutated_file_is_accounted_for_or_refused_in_words(
    whole_files: dict[str, bytes], tmp_path: Path, data: st.DataObject
) -> None:
    """Bytes of a real file are overwritten, cut out, put in or doubled, in every format."""
    name = data.draw(st.sampled_from(["log.csv", *FORMS]))
    raw = bytearray(whole_files[name])
    for _ in range(data.draw(st.integers(1, 3))):
        at = data.draw(st.integers(0, len(raw)))
        end = min(at + data.draw(st.sampled_from([0, 1, 4, 300, len(raw)])), len(raw))
        doubled = data.draw(st.booleans())
        raw[at:end] = bytes(raw[at:end]) * 2 if doubled else data.draw(st.binary(max_size=6))
    try:
        reading = read(tmp_path, bytes(raw), name)
    except UnusableFile as error:
        refused = error
    else:
        assert reading.rows_read == len(reading.log) + len(reading.set_aside)
        assert all(row.line > 0 and row.reason for row in reading.set_aside)
        return
    assert (refused.what[-1], refused.mend[-1]) == (".", ".")


@pytest.fixture(scope="module")
def whole_files(
    lines: list[str], objects: list[dict[str, Any]], tmp_path_factory: pytest.TempPathFactory
) -> dict[str, bytes]:
    made = tmp_path_factory.mktemp("made") / "log.parquet"
    plain = {"log.csv": "\n".join(lines[:200]).encode()}
    return plain | {name: form(lines[:200], objects[:199], made) for name, form in FORMS.items()}


def test_an_array_that_is_cut_short_keeps_its_rows(
    objects: list[dict[str, Any]], tmp_path: Path
) -> None:
    whole = json.dumps(objects[:10]).encode()
    reading = read(tmp_path, whole[:-30], "cut.json")
    assert len(reading.log) == 9
    assert [(row.line, row.reason) for row in reading.set_aside] == [(10, "not a JSON object")]


LAYOUTS = {
    "a line each": lambda texts: "[\n" + ",\n".join(texts) + "\n]",
    "one line": lambda texts: "[" + ", ".join(texts) + "]",
    "spread": lambda texts: "[" + ",".join(text.replace(",", ",\n ") for text in texts) + "]",
    "inside": lambda texts: '{"log": "L", "events": [' + ",".join(texts) + '], "end": [{"a": 1}]}',
}


@examples(250, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    at=st.integers(1, 29),
    layout=st.sampled_from(sorted(LAYOUTS)),
    nested=st.booleans(),
    edits=st.lists(
        st.tuples(st.integers(0, 10_000), st.sampled_from(["", *'{}[]":,\\', '"}', "}, {"])),
        min_size=1,
        max_size=2,
    ),
)
def test_a_broken_element_of_an_array_costs_only_itself(
    tmp_path: Path, at: int, layout: str, nested: bool, edits: list[tuple[int, str]]
) -> None:
    more = {"params": {"ids": [{"a": "x"}, {"a": "y"}], "of": {"n": 1}}} if nested else {}
    rows = [{"time": 1777888800000 + i, **more, "user": f"u{i}", "screen": "S"} for i in range(30)]
    texts = [json.dumps(row) for row in rows]
    for place, put in edits:
        place %= len(texts[at])
        texts[at] = texts[at][:place] + put + texts[at][place + 1 :]
    reading = read(tmp_path, LAYOUTS[layout](texts).encode(), "broken.json")
    users = [reading.log.terms["user"][code] for code in reading.log.columns["user"]]
    others = {row["user"] for i, row in enumerate(rows) if i != at}
    lost = others - set(users)
    assert not lost, (texts[at], lost)
    assert len(users) + len(reading.set_aside) >= 30, texts[at]


def test_an_external_entity_is_not_fetched(tmp_path: Path) -> None:
    secret = tmp_path / "secret.txt"
    secret.write_text("the secret")
    text = (
        f'<!DOCTYPE l [<!ENTITY s SYSTEM "{secret}">]><log><trace><event>'
        '<string key="user" value="u"/><string key="note">&s;</string>'
        '<string key="screen" value="A"/><date key="time:timestamp" value="2026-05-04T10:00:00Z"/>'
        "</event></trace></log>"
    )
    log = read(tmp_path, text.encode(), "log.xes").log
    assert "secret" not in json.dumps(log.terms)


def test_a_bomb_is_refused_before_it_has_unpacked(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(source, "HARMLESS", 4 << 20)
    bomb = gzip.compress(b"time,user,screen\n" + b"1777888800,u,A\n" * 4_000_000)
    tracemalloc.start()
    with pytest.raises(UnusableFile, match="unpacks to more than 250 times"):
        read(tmp_path, bomb, "bomb.csv.gz")
    tracemalloc.stop()


JSON_TEXT = st.recursive(
    st.none() | st.booleans() | st.integers(-(2**53), 2**53) | st.text(max_size=8),
    lambda inner: (
        st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=4), inner, max_size=3)
    ),
    max_leaves=6,
)


@examples(150)
@given(
    values=st.lists(JSON_TEXT, min_size=1, max_size=10),
    indent=st.sampled_from([None, 1, 4]),
    block=st.integers(30, 300),
    array=st.booleans(),
)
def test_any_json_is_taken_apart_as_the_standard_library_does(
    tmp_path_factory: pytest.TempPathFactory,
    values: list[Any],
    indent: int | None,
    block: int,
    array: bool,
) -> None:
    rows = [
        {"time": 1777888800, "user": "u", "screen": f"S{i}", "params": {"v": value}, "": "x"}
        for i, value in enumerate(values)
    ]
    text = json.dumps(rows, indent=indent) if array else "\n\n".join(map(json.dumps, rows))
    kept: list[records.Records] = []
    before, records.BLOCK = records.BLOCK, block
    try:
        path = tmp_path_factory.mktemp("json") / "log.json"
        path.write_text(text)
        reading, kept = read_and_keep(path)
    finally:
        records.BLOCK = before
    log = reading.log
    assert [log.text("screen", i) for i in range(len(log))] == [row["screen"] for row in rows]
    found = [json.loads(log.text("params", i) or "null") for i in range(len(log))]
    assert found == [{"v": value} if value is not None else {} for value in values]
    found_raw = [
        raw_record(reading.files[0], data, first, int(line))
        for part in kept
        for first, data in part.pieces()
        for line in part.lines
    ]
    assert [json.loads(raw) for raw in found_raw if raw is not None] == rows


ANY_TYPE = st.recursive(
    st.sampled_from(
        [pa.timestamp(unit, zone) for unit in ("s", "ms", "us", "ns") for zone in (None, "UTC")]
        + [pa.int8(), pa.int64(), pa.uint64(), pa.float32(), pa.float64(), pa.bool_()]
        + [pa.date32(), pa.date64(), pa.time32("ms"), pa.time64("ns"), pa.duration("us")]
        + [pa.string(), pa.large_string(), pa.binary(), pa.null(), pa.decimal128(12, 3)]
        + [pa.dictionary(pa.int8(), pa.string())]
    ),
    lambda inner: (
        inner.map(pa.list_)
        | st.tuples(inner, inner).map(lambda two: pa.struct([("a", two[0]), ("b", two[1])]))
    ),
    max_leaves=3,
)


@examples(60)
@given(data=st.data(), types=st.lists(ANY_TYPE, min_size=1, max_size=4), time=ANY_TYPE)
def test_a_parquet_file_of_any_types_is_read_or_refused(
    tmp_path_factory: pytest.TempPathFactory,
    data: st.DataObject,
    types: list[pa.DataType],
    time: pa.DataType,
) -> None:
    names = data.draw(
        st.lists(st.sampled_from(["user", "screen", "params", "x"]), max_size=3, unique=True)
    )
    schema = [("time", time), *zip([*names, "event"], types, strict=False)]
    columns = [_values(kind) for _, kind in schema]
    path = tmp_path_factory.mktemp("any") / "any.parquet"
    parquet_file.write_table(pa.table(columns, names=[name for name, _ in schema]), path)
    with suppress(UnusableFile):
        preview(look(LogFile(path)))
        reading = read_files([path])
        assert len(reading.log) + len(reading.set_aside) == 3


def _values(kind: pa.DataType) -> pa.Array:
    """Something, something else, and nothing, of any type."""
    if pa.types.is_struct(kind):
        inner = [_values(field.type) for field in kind]
        return pa.StructArray.from_arrays(inner, fields=list(kind))
    if pa.types.is_list(kind):
        return pa.ListArray.from_arrays([0, 2, 2, 3], _values(kind.value_type))
    if pa.types.is_dictionary(kind):
        return pa.array(["a", "b", None]).dictionary_encode().cast(kind)
    if pa.types.is_string(kind) or pa.types.is_large_string(kind):
        return pa.array(["2026-05-04T10:00:00Z", "ü", None], kind)
    if pa.types.is_binary(kind):
        return pa.array([b"a", b"\xff", None], kind)
    if pa.types.is_boolean(kind):
        return pa.array([True, False, None])
    if pa.types.is_null(kind):
        return pa.nulls(3)
    if pa.types.is_decimal(kind):
        return pa.array([Decimal("1777888800.5"[:8]), Decimal(0), None], kind)
    if pa.types.is_floating(kind):
        return pa.array([1.5, float("nan"), None], kind)
    narrow = {8: pa.int8(), 32: pa.int32()}.get(kind.bit_width, pa.int64())
    return pa.array([1, 100, None], narrow).cast(kind, safe=False)


@pytest.mark.parametrize("name", ["log.csv", "log.jsonl", "log.parquet"])
def test_how_far_a_reading_is_comes_to_all_of_each_file(
    demo: Demo, tmp_path: Path, name: str
) -> None:
    path = tmp_path / name
    if path.suffix == ".parquet":
        parquet_file.write_table(pl.read_csv(demo.csv, infer_schema=False).to_arrow(), path)
    else:
        path.write_bytes((demo.csv if path.suffix == ".csv" else demo.json_lines).read_bytes())
    seen: list[Progress] = []

    class Seeing(Watcher):
        def on_progress(self, progress: Progress) -> None:
            seen.append(progress)

    read_log([LogFile(path, name)] * 2, lambda _: None, Seeing())
    done = [one.bytes_read for one in seen]
    assert done == sorted(done)
    assert done[-1] == seen[-1].bytes_total == 2 * path.stat().st_size


def test_texts_that_a_parquet_file_has_in_a_dictionary_are_those_of_its_rows(
    tmp_path: Path,
) -> None:
    """However many no row has, in whatever order, and though two are the same or empty."""
    users = ["unused", "b", "a", "b", "", ""]
    places = [2, 1, 3, 2, 4, 5, None, 1]
    screens = ["unused", "Home", "Detail"]
    shown = [2, 1, 1, 2, 1, 1, 2, None]
    moments = [f"2026-05-04T10:00:0{i}Z" for i in range(8)]
    table = pa.table(
        {
            "time": moments,
            "user": pa.DictionaryArray.from_arrays(pa.array(places, pa.int8()), users),
            "screen": pa.DictionaryArray.from_arrays(
                pa.array(shown, pa.int32()), pa.array(screens, pa.large_string())
            ),
            "crew": [7, 7, 8, 7, 7, 7, 7, 7],
            "rating": [0.5, None, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5],
        }
    )
    coded, plain = tmp_path / "coded.parquet", tmp_path / "plain.csv"
    parquet_file.write_table(table, coded)
    rows = [
        (moment, users[place] if place is not None else None, screens[at] if at else None, crew, r)
        for moment, place, at, crew, r in zip(
            moments, places, shown, *(table[n].to_pylist() for n in ("crew", "rating")), strict=True
        )
    ]
    lines = [",".join("" if cell is None else str(cell) for cell in row) for row in rows]
    plain.write_text("\n".join(["time,user,screen,crew,rating", *lines]))
    found, expected = read_files([coded]), read_files([plain])
    assert [row.reason for row in found.set_aside] == [row.reason for row in expected.set_aside]
    assert len(found.set_aside) == 4
    assert {**found.log.terms, "file": []} == {**expected.log.terms, "file": []}
    assert found.log.terms["user"] == ["a", "b"]
    for name in expected.log.columns:
        if name != "line":
            assert found.log.columns[name].tolist() == expected.log.columns[name].tolist(), name


@pytest.mark.parametrize("in_a_dictionary", [True, False])
def test_text_of_a_parquet_file_that_is_not_utf_8_is_read_as_far_as_it_can_be(
    tmp_path: Path, in_a_dictionary: bool
) -> None:
    broken = pa.array([b"Home", b"D\xfftail", None, b"Home"], pa.binary())
    screen = pa.Array.from_buffers(pa.string(), 4, broken.buffers())
    times = [f"2026-05-04T10:00:0{i}Z" for i in range(4)]
    table = pa.table({"time": times, "user": ["a", "b", "", "d"], "screen": screen})
    path = tmp_path / "log.parquet"
    parquet_file.write_table(table, path, use_dictionary=in_a_dictionary)
    reading = read_files([path])
    assert reading.log.terms["screen"] == ["Home", "D\N{REPLACEMENT CHARACTER}tail"]
    assert [(row.line, row.reason) for row in reading.set_aside] == [(3, "no user")]


@pytest.mark.parametrize("batch", [1, 30, 500, 1 << 20])
def test_a_parquet_file_reads_alike_however_its_rows_are_grouped(
    demo: Demo, tmp_path: Path, batch: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Groups of many sizes, some together in a block and some cut; each with its own dictionary."""
    rows = pl.read_csv(demo.csv, infer_schema=False).head(1500).to_arrow()
    path, at = tmp_path / "log.parquet", 0
    with parquet_file.ParquetWriter(path, rows.schema) as writer:
        for size in (1, 7, 20, 2, 900, 3, 567):
            writer.write_table(rows.slice(at, size), row_group_size=size)
            at += size
    parquet_file.write_table(rows, tmp_path / "one.parquet")
    expected = read_files([tmp_path / "one.parquet"])
    monkeypatch.setattr(parquet_form, "BATCH", batch)
    found, blocks = read_and_keep(path)
    assert max(map(len, blocks)) <= batch
    assert contents(found.log) == contents(expected.log)
    assert found.log.columns["line"].tolist() == list(range(1, 1501))


def test_sets_of_properties_are_alike_however_many_there_might_be(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    lines = [f"2026-05-04T10:00:00Z,u,A,{i % 7},{i % 5},{'x' * (i % 3)}" for i in range(200)]
    path = tmp_path / "log.csv"
    path.write_text("\n".join(["time,user,screen,one,two,three", *lines]))
    expected = read_files([path]).log
    monkeypatch.setattr(coding, "_DENSE", 0)
    found = read_files([path]).log
    assert found.terms == expected.terms
    assert found.columns["props"].tolist() == expected.columns["props"].tolist()
    sets = [json.loads(found.terms["props"][code]) for code in found.columns["props"]]
    assert [int(one["one"]) for one in sets] == [i % 7 for i in range(200)]
    assert ["three" in one for one in sets] == [i % 3 > 0 for i in range(200)]
