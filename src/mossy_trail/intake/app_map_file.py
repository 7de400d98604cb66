"""Reading an app map from its file: YAML or JSON, held against the published schema."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from functools import cache
from pathlib import Path
from typing import Any

import yaml
from jsonschema import Draft202012Validator

from mossy_trail.core.model.app_map import AppMap, MapError
from mossy_trail.intake.errors import UnusableMap

SCHEMA = Path(__file__).parent / "app_map.schema.json"
LARGEST = 4 << 20
_WORDS = ("tag:yaml.org,2002:bool", "tag:yaml.org,2002:timestamp")


class _Loader(yaml.SafeLoader):
    """Takes `true` and `false` alone for booleans, as YAML 1.2 does, so that `on` and `yes` are
    words; and dates for text, as JSON does."""


_Loader.yaml_implicit_resolvers = {
    first: [pair for pair in pairs if pair[0] not in _WORDS]
    for first, pairs in yaml.SafeLoader.yaml_implicit_resolvers.items()
}
_Loader.add_implicit_resolver("tag:yaml.org,2002:bool", re.compile("true|false"), ["t", "f"])


@cache
def _validator() -> Draft202012Validator:
    return Draft202012Validator(json.loads(SCHEMA.read_text()))


def parse_map(text: str | bytes) -> dict[str, Any]:
    """The document of a map file; raises `UnusableMap` when it breaks the schema or itself."""
    if len(text) > LARGEST:
        raise UnusableMap(f"The map is larger than {LARGEST >> 20} MB.")
    try:
        document = yaml.load(text, _Loader)
    except yaml.MarkedYAMLError as error:
        mark = error.problem_mark
        where = f"Line {mark.line + 1}: " if mark else ""
        raise UnusableMap(f"{where}{error.problem}. Mend the YAML and try again.") from None
    except (yaml.YAMLError, UnicodeDecodeError, RecursionError, ValueError):
        raise UnusableMap("This is neither YAML nor JSON in UTF-8.") from None
    for fault in _validator().iter_errors(document):
        line = _line_of(text, [*fault.absolute_path])
        where = ".".join(map(str, fault.absolute_path)) or "the top"
        raise UnusableMap(f"Line {line}, at {where}: {fault.message[:300]}.")
    try:
        AppMap.from_dict(document)
    except MapError as error:
        line = _line_of(text, error.where.split("."))
        raise UnusableMap(f"Line {line}, at {error}.") from None
    assert isinstance(document, dict)
    return document


def _line_of(text: str | bytes, path: Sequence[str | int]) -> int:
    """The line on which the value at this path of keys and numbers begins."""
    node = yaml.compose(text, yaml.SafeLoader)
    for key in path:
        inner = None
        if isinstance(node, yaml.MappingNode):
            inner = next((v for k, v in node.value if k.value == str(key)), None)
        elif isinstance(node, yaml.SequenceNode) and str(key).isdigit():
            inner = node.value[int(key)] if int(key) < len(node.value) else None
        if inner is None:
            break
        node = inner
    return node.start_mark.line + 1 if node else 1


def map_of(document: dict[str, Any]) -> AppMap:
    """The app map of a parsed document."""
    try:
        return AppMap.from_dict(document)
    except MapError as error:
        raise UnusableMap(f"At {error}.") from None
