"""Reading an app map from its file: YAML or JSON, held against the published schema."""

from __future__ import annotations

import json
from functools import cache
from pathlib import Path
from typing import Any

import yaml
from jsonschema import Draft202012Validator

from mossy_trail.core.app_map import AppMap, MapError
from mossy_trail.intake.errors import UnusableMap

SCHEMA = Path(__file__).parent / "app_map.schema.json"
LARGEST = 4 << 20


@cache
def _validator() -> Draft202012Validator:
    return Draft202012Validator(json.loads(SCHEMA.read_text()))


def parse_map(text: str | bytes) -> dict[str, Any]:
    """The document of a map file; raises `UnusableMap` when it breaks the schema or itself."""
    if len(text) > LARGEST:
        raise UnusableMap(f"The map is larger than {LARGEST >> 20} MB.")
    try:
        document = yaml.safe_load(text)
    except yaml.MarkedYAMLError as error:
        mark = error.problem_mark
        line = f"Line {mark.line + 1}: " if mark else ""
        raise UnusableMap(f"{line}{error.problem}. Mend the YAML and try again.") from None
    except (yaml.YAMLError, UnicodeDecodeError, RecursionError, ValueError):
        raise UnusableMap("This is neither YAML nor JSON in UTF-8.") from None
    for error in _validator().iter_errors(document):
        where = ".".join(map(str, error.absolute_path)) or "the top"
        raise UnusableMap(f"At {where}: {error.message[:300]}.")
    map_of(document)
    assert isinstance(document, dict)
    return document


def map_of(document: dict[str, Any]) -> AppMap:
    """The app map of a parsed document."""
    try:
        return AppMap.from_dict(document)
    except MapError as error:
        raise UnusableMap(f"At {error}.") from None
