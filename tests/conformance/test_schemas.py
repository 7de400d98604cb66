"""The schemas of our own formats, in the strict mode of a validator that is not Python's."""

from __future__ import annotations

import json
import subprocess
from pathlib import Path
from typing import Any

from mossy_trail.demo.load import MAP
from mossy_trail.intake import app_map_file, mapping_file
from mossy_trail.intake.reader import LogFile, look, preview
from tests.conftest import Demo


def test_schemas_are_strict_and_take_what_we_write(demo: Demo) -> None:
    drafted = preview(look(LogFile(demo.csv))).mapping
    written = mapping_file.mapping_document(drafted)
    app_map = app_map_file.parse_map(MAP.read_text())
    asked = [
        (str(app_map_file.SCHEMA), [app_map, {"mossy_map": 2}, {**app_map, "scrns": []}]),
        (str(mapping_file.SCHEMA), [written, {**written, "fields": {"nothing": ["a"]}}]),
    ]
    maps, mappings = told(asked)
    assert (maps["id"], mappings["id"]) == (
        "urn:mossy-trail:app-map:1",
        "urn:mossy-trail:mapping:1",
    )
    assert [bool(wrong) for wrong in maps["wrong"]] == [False, True, True]
    assert [bool(wrong) for wrong in mappings["wrong"]] == [False, True]


def told(asked: list[tuple[str, list[Any]]]) -> list[dict[str, Any]]:
    script = Path(__file__).parent / "schemas.mjs"
    done = subprocess.run(
        ["node", str(script)], input=json.dumps(asked), capture_output=True, text=True, check=True
    )
    found: list[dict[str, Any]] = json.loads(done.stdout)
    return found
