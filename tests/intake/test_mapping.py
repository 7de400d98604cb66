"""Foreign logs: what is proposed for them, and what is read by it."""

from __future__ import annotations

import json
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path

import pyarrow as pa
import pytest
import yaml
from hypothesis import HealthCheck, given
from hypothesis import strategies as st

from mossy_trail.core.model.log import EVENTS
from mossy_trail.intake.errors import UnusableFile, UnusableMap
from mossy_trail.intake.formats.parquet import kept_block
from mossy_trail.intake.mapping import Mapping, hashed, masked
from mossy_trail.intake.mapping_file import mapping_document, parse_mapping
from mossy_trail.intake.patterns import find, propose_patterns
from mossy_trail.intake.reader import LogFile, look, preview, read_files
from mossy_trail.intake.words import meaning
from tests.campaign import examples
from tests.intake.reading import read_and_keep, read_kept

TIMES = [f"2026-05-04 10:00:{i:02}" for i in range(20)]


def write(folder: Path, columns: dict[str, list[str]], name: str = "log.csv") -> Path:
    path = folder / name
    rows = [dict(zip(columns, cells, strict=True)) for cells in zip(*columns.values(), strict=True)]
    if name.endswith(".csv"):
        lines = [";".join(columns), *(";".join(row.values()) for row in rows)]
        path.write_text("\n".join(lines) + "\n")
    else:
        path.write_text("\n".join(json.dumps(nested(row)) for row in rows) + "\n")
    return path


def nested(row: dict[str, str]) -> dict[str, object]:
    """`a.b` as what lies under b in a."""
    result: dict[str, object] = {}
    for path, value in row.items():
        *outer, last = path.split(".")
        inner = result
        for part in outer:
            inner = inner.setdefault(part, {})  # type: ignore[assignment]
        inner[last] = value
    return result


def cycle(*values: str) -> list[str]:
    return [values[i % len(values)] for i in range(len(TIMES))]


@pytest.mark.parametrize(
    ("name", "columns", "expected"),
    [
        (
            "log.csv",
            {
                "occurredAt": TIMES,
                "Device ID": cycle("d1", "d2"),
                "visit_id": cycle("v1", "v2"),
                "What": cycle("launch", "pageView", "Go back"),
                "Page Name": cycle("", "Home", "List"),
                "os": cycle("a", "b"),
            },
            {
                "time": "occurredAt",
                "user": "Device ID",
                "session": "visit_id",
                "event": "What",
                "screen": "Page Name",
            },
        ),
        (
            "log.jsonl",
            {
                "ts": [str(1777888800000 + i) for i in range(20)],
                "context.client.key": cycle("c1", "c2"),
                "action": cycle("shown", "back"),
                "data.view": cycle("Home", "List"),
                "data.url": cycle("/home", "/list"),
            },
            {
                "time": "ts",
                "user": "context.client.key",
                "event": "action",
                "screen": "data.view",
                "uri": "data.url",
            },
        ),
        (
            "log.csv",
            {
                "c1": TIMES,
                "member": cycle("m1", "m2", "m3"),
                "c3": cycle("push", "pop", "screen_view"),
                "scene": cycle("A", "B"),
                "seq": [str(i) for i in range(20)],
                "screen_count": cycle("3", "4"),
            },
            {"time": "c1", "user": "member", "event": "c3", "screen": "scene", "order": "seq"},
        ),
        (
            "log.csv",
            {
                "time": TIMES,
                "member_id": cycle("", "m1", "m2"),
                "device": cycle("of a make"),
                "device_id": cycle("d1", "d2"),
                "page": cycle("A", "B"),
            },
            {"time": "time", "user": "device_id", "account": "member_id", "screen": "page"},
        ),
    ],
)
def test_columns_are_told_by_name_and_value(
    tmp_path: Path, name: str, columns: dict[str, list[str]], expected: dict[str, str]
) -> None:
    seen = preview(look(LogFile(write(tmp_path, columns, name))))
    found = {key: of[0] for key, of in seen.mapping.fields.items() if key != "count"}
    assert found == expected
    assert not seen.proposal.exact
    assert set(seen.proposal.reasons) >= set(expected)
    assert len(seen.raw) == len(seen.read) == 20
    assert all(row["problem"] is None for row in seen.read)


def test_words_become_events_and_other_columns_properties(tmp_path: Path) -> None:
    columns = {
        "when": TIMES,
        "person": cycle("p1"),
        "kind": cycle("App Open", "pageView", "switchTab", "bought"),
        "page": cycle("", "Home", "Me", "Me"),
        "source": ["x"] * 20,
        "extra.plan": cycle("gold"),
        "extra.seats.most": cycle("4"),
    }
    log = read_files([write(tmp_path, columns, "log.jsonl")]).log
    assert [EVENTS[e] for e in log.columns["event"][:4]] == [
        "app_start",
        "screen_view",
        "switch_tab",
        "custom",
    ]
    assert log.text("word", 3) == "bought"
    extra = json.loads(json.loads(log.text("props", 0) or "")["extra"])
    assert extra == {"plan": "gold", "seats": {"most": "4"}}


def test_a_chosen_mapping_composes_and_takes_apart(tmp_path: Path) -> None:
    columns = {
        "t": TIMES,
        "who.id": cycle("w1"),
        "who.plan": cycle("gold"),
        "place": cycle("Home", "List"),
        "inner": cycle("map", ""),
        "user": cycle("not this one"),
    }
    mapping = Mapping(
        {"time": ["t"], "user": ["who.id"], "screen": ["place", "inner"]},
        {"event": "seen", "tab": "Main"},
        {"seen": "screen_view"},
    )
    path = write(tmp_path, columns, "log.jsonl")
    log = read_files([path], mapping=mapping).log
    assert log.terms["user"] == ["w1"]
    assert log.text("screen", 0) == "Home/map"
    assert EVENTS[log.columns["event"][0]] == "screen_view"
    assert log.text("tab", 0) == "Main"
    props = json.loads(log.text("props", 0) or "")
    assert props == {"who.plan": "gold", "user (column)": "not this one"}
    read = preview(look(LogFile(path)), mapping).read[0]
    assert (read["screen"], read["time"]) == ("Home/map", "2026-05-04 10:00:00.000")


def test_our_own_names_ask_nothing_and_shapes_do_not_depend_on_order(tmp_path: Path) -> None:
    columns = {"time": TIMES, "user": cycle("u"), "screen": cycle("A"), "page": cycle("B")}
    seen = preview(look(LogFile(write(tmp_path, columns))))
    assert seen.proposal.exact
    turned = dict(reversed(columns.items()))
    assert preview(look(LogFile(write(tmp_path, turned, "turned.csv")))).shape == seen.shape
    fewer = {k: v for k, v in columns.items() if k != "page"}
    assert preview(look(LogFile(write(tmp_path, fewer, "fewer.csv")))).shape != seen.shape


def test_rows_that_cannot_be_read_say_why(tmp_path: Path) -> None:
    columns = {"time": ["x", *TIMES[1:]], "user": ["u", "", *cycle("u")[2:]], "screen": cycle("A")}
    problems = [row["problem"] for row in preview(look(LogFile(write(tmp_path, columns)))).read]
    assert problems[:3] == ["time cannot be read", "no user", None]


def test_a_log_in_which_nothing_can_be_told_names_its_columns(tmp_path: Path) -> None:
    path = write(tmp_path, {"a": cycle("1"), "b": cycle("2")})
    assert preview(look(LogFile(path))).mapping.missing == ["time", "user", "screen"]
    with pytest.raises(UnusableFile, match=r"a time or for a user or for an event.*“a”, “b”"):
        read_files([path])


def test_what_is_left_out_or_hashed_is_nowhere_kept(tmp_path: Path) -> None:
    columns = {
        "when": [*TIMES[1:], "never"],
        "email": cycle("ann@skerry.example", "bo@skerry.example"),
        "page": cycle("Home", "List"),
        "phone": cycle("+47 123 45 678"),
        "tier": cycle("gold"),
    }
    path = write(tmp_path, columns)
    path.write_text(path.read_text() + "ann@skerry.example in one column\n")
    reading, blocks = read_and_keep(path, key=b"of this installation")
    mapping = Mapping.of(reading.files[0]["mapping"])
    assert (mapping.fields["user"], mapping.hashed) == (["email"], ["email"])
    assert mapping.left_out == ["phone"]
    aside = [(row.line, row.reason, row.text) for row in reading.set_aside]
    assert sorted(row[1:] for row in aside) == [
        ("time cannot be read", ""),
        ("wrong number of columns", ""),
    ]
    pieces = [data for block in blocks for _, data in block.pieces()]
    kept = "".join(str(block.text(row)) for block in map(kept_block, pieces) for row in range(20))
    for secret in ("ann@", "skerry.example", "123 45"):
        assert secret not in kept + json.dumps(reading.log.terms)
    assert "gold" in kept
    again = read_kept(reading, blocks, key=b"of this installation")
    assert again.log.terms == reading.log.terms, "what is hashed is not hashed again"
    assert [(row.line, row.reason, row.text) for row in again.set_aside] == aside
    other, _ = read_and_keep(tmp_path / "log.csv", key=b"of another")
    assert set(other.log.terms["user"]).isdisjoint(reading.log.terms["user"])


def test_members_of_packed_columns_are_hashed_and_left_out_too() -> None:
    packed = ['{"id": {"serial": 7, "os": "tarn"}, "owner": "Ann"}', "no JSON", "{broken", None]
    mapping = Mapping(hashed=["device.id.serial"], left_out=["device.owner"])
    first, *others = masked(mapping, pa.table({"device": packed}), b"key")["device"].to_pylist()
    assert json.loads(first) == {"id": {"serial": hashed("7", b"key"), "os": "tarn"}}
    assert others == ["no JSON", "{}", None]


def test_a_mapping_is_a_document_that_is_held_to_its_schema(tmp_path: Path) -> None:
    columns = {"when": TIMES, "who": cycle("a", "b"), "what": cycle("otp_ok", "shown", "tapped")}
    mapping = preview(look(LogFile(write(tmp_path, columns)))).mapping
    chosen = replace(mapping, events={**mapping.events, "tapped": "leave out"})
    text = yaml.safe_dump(mapping_document(chosen), allow_unicode=True)
    assert parse_mapping(text) == chosen
    reading = read_files([tmp_path / "log.csv"], mapping=chosen)
    assert {row.reason for row in reading.set_aside} == {"left out by the mapping"}
    outcome = reading.log.columns["outcome"]
    assert (outcome[reading.log.columns["event"] == EVENTS.index("sign_in")] == 1).all()
    for wrong in ("mossy_mapping: 2", "[1, 2]", text + "colour: red", text + "patterns: ['']"):
        with pytest.raises(UnusableMap):
            parse_mapping(wrong)


@pytest.mark.parametrize(
    ("word", "meant"),
    [
        ("pageview", "screen_view"),
        ("LoginSucceeded", "sign_in ok"),
        ("otp_wrong", "sign_in failed"),
        ("user logged in", "sign_in ok"),
        ("signup.completed", "sign_up ok"),
        ("otp_requested", None),
        ("password_reset", None),
        ("success", None),
    ],
)
def test_words_of_the_trade(word: str, meant: str | None) -> None:
    assert meaning(word) == meant


@pytest.mark.parametrize(
    ("address", "screen"),
    [
        ("https://shop.example/item/12/7?a=b#c", "/item/{item}/{id}"),
        ("https://shop.example/", "/"),
        ("http://[", "/"),
        ("https://shop.example/{x}/{x}", "/{id}/{x}"),
        ("https://shop.example/2026/05", "/{id}/{id_id}"),
    ],
)
def test_addresses_become_routes_whatever_is_in_them(address: str, screen: str) -> None:
    patterns = propose_patterns({address: 1, "https://shop.example/cart": 9})
    found = find(patterns, address)
    assert (found.screen if found else address) == screen


WRITTEN = (
    "%Y-%m-%d %H:%M:%S",
    "%Y-%m-%dT%H:%M:%S.%f",
    "%Y/%m/%d %H:%M:%S",
    "%Y-%m-%d %H:%M:%S UTC",
    "%d.%m.%Y %H:%M:%S",
    "%d/%m/%Y %H:%M:%S",
    "%m/%d/%Y %I:%M:%S %p",
    "%b %d, %Y %I:%M:%S %p",
    "%B %d, %Y %H:%M:%S",
    "%d %b %Y %H:%M:%S",
    "%a, %d %b %Y %H:%M:%S",
    "%Y%m%dT%H%M%S",
)
ENCODINGS = ("utf-8", "utf-8-sig", "utf-16", "cp1252", "latin-1")
NAMES = st.text("abcæøåßéñüÄÖ", min_size=1, max_size=8)
FIXED = [HealthCheck.function_scoped_fixture]


@examples(60, suppress_health_check=FIXED)
@given(
    form=st.sampled_from(WRITTEN),
    # From the 13th on, no day can be taken for a month.
    moments=st.lists(
        st.datetimes(datetime(2024, 1, 13), datetime(2027, 1, 1)).filter(lambda m: m.day > 12),
        min_size=8,
        max_size=20,
    ),
    encoding=st.sampled_from(ENCODINGS),
    names=st.lists(NAMES, min_size=1, max_size=4),
)
def test_any_usual_written_time_in_any_usual_encoding_is_read(
    tmp_path: Path, form: str, moments: list[datetime], encoding: str, names: list[str]
) -> None:
    """Against what Python's own library reads and decodes."""
    rows = [
        {
            "when": f'"{moment.strftime(form)}"',
            "who": f"p{i % 3}",
            "page": f"S{names[i % len(names)]}",
        }
        for i, moment in enumerate(moments)
    ]
    path = tmp_path / "log.csv"
    path.write_bytes(
        "\n".join(["when;who;page", *(";".join(row.values()) for row in rows)]).encode(encoding)
    )
    log = read_files([path]).log
    told = sorted(
        (
            row["page"],
            int(datetime.strptime(row["when"][1:-1], form).replace(tzinfo=UTC).timestamp() * 1000),
        )
        for row in rows
    )
    screens, times = log.columns["screen"], log.columns["time"]
    read = sorted(
        (log.terms["screen"][s], int(t) // 1000) for s, t in zip(screens, times, strict=True)
    )
    assert read == told
