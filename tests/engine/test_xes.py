"""Files of XES as IEEE 1849-2016 has them: what its schema and its text ask of a log."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from lxml import etree

from mossy_trail.core.model.app_map import AppMap
from mossy_trail.core.model.log import NONE, split
from mossy_trail.demo.simulator import simulate, write
from mossy_trail.engine.export import rows_of, steps_of, stream
from mossy_trail.engine.study import Study
from mossy_trail.intake.reader import read_files

SPACE = "{http://www.xes-standard.org/}"
ORDER = ["extension", "global", "classifier", "trace"]
VALUES: dict[str, Callable[[str], Any]] = {
    "string": str,
    "int": int,
    "boolean": {"true": True, "false": False}.__getitem__,
    "date": re.compile(r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d+)?Z").fullmatch,
}


@pytest.fixture(scope="module")
def without_sessions(app_map: AppMap, tmp_path_factory: pytest.TempPathFactory) -> Study:
    path, *_ = write(simulate(8_000, 3), tmp_path_factory.mktemp("xes"))
    log = read_files([path]).log
    log.columns["session"][len(log) // 2 :] = NONE
    return Study(split(log, 2), app_map)


@pytest.mark.parametrize("tables", [rows_of, steps_of])
def test_a_log_is_as_the_standard_has_it(without_sessions: Study, tables: Any) -> None:
    log = etree.fromstring(b"".join(stream(tables(without_sessions), "xes")))
    assert log.tag == f"{SPACE}log"
    assert re.fullmatch(r"\d+\.\d+", log.attrib["xes.version"])
    kinds = [child.tag.removeprefix(SPACE) for child in log]
    assert kinds == sorted(kinds, key=ORDER.index)
    globals_ = {one.attrib["scope"]: keys(one) for one in log.iter(f"{SPACE}global")}
    assert set(globals_) == {"trace", "event"}
    for classifier in log.iter(f"{SPACE}classifier"):
        assert set(classifier.attrib["keys"].split()) <= globals_["event"]
    names = [
        trace.find(f"{SPACE}string[@key='concept:name']") for trace in log.iter(f"{SPACE}trace")
    ]
    assert len({name.attrib["value"] for name in names}) == len(names) > 100
    for scope in globals_:
        for one in log.iter(SPACE + scope):
            found = keys(one)
            assert globals_[scope] <= found
            assert len(found) == sum("key" in child.attrib for child in one)
    for attribute in log.iter(*(SPACE + kind for kind in VALUES)):
        kind, value = attribute.tag.removeprefix(SPACE), attribute.attrib["value"]
        assert VALUES[kind](value) is not None, value


def keys(element: Any) -> set[str]:
    return {child.attrib["key"] for child in element if "key" in child.attrib}


def test_rows_without_sessions_have_none_when_they_are_read_again(
    without_sessions: Study, tmp_path: Path
) -> None:
    path = tmp_path / "rows.xes"
    path.write_bytes(b"".join(stream(rows_of(without_sessions), "xes")))
    again = Study(split(read_files([path]).log, 2), without_sessions.app_map)
    assert len(again.index.start) == len(without_sessions.index.start)
    assert again.fates() == without_sessions.fates()
