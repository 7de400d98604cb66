"""A mapping as a document of its own: JSON or YAML, held against the published schema."""

from __future__ import annotations

import json
from dataclasses import asdict
from functools import cache
from pathlib import Path
from typing import Any
from zoneinfo import available_timezones

import yaml
from jsonschema import Draft202012Validator

from mossy_trail.intake.errors import UnusableMap
from mossy_trail.intake.mapping import Mapping
from mossy_trail.intake.patterns import is_pattern
from mossy_trail.intake.times import FORMS, is_written_form

SCHEMA = Path(__file__).parent / "mapping.schema.json"
LARGEST = 4 << 20


@cache
def _validator() -> Draft202012Validator:
    return Draft202012Validator(json.loads(SCHEMA.read_text()))


def mapping_document(mapping: Mapping) -> dict[str, Any]:
    """The document of a mapping, without what says nothing."""
    told = {name: value for name, value in asdict(mapping).items() if value}
    return {"mossy_mapping": 1, **told}


def parse_mapping(text: str | bytes) -> Mapping:
    """The mapping of a document; raises `UnusableMap` where it breaks the schema."""
    if len(text) > LARGEST:
        raise UnusableMap(f"The mapping is larger than {LARGEST >> 20} MB.")
    try:
        document = yaml.safe_load(text)
    except (yaml.YAMLError, UnicodeDecodeError, RecursionError, ValueError):
        raise UnusableMap("This mapping is neither YAML nor JSON in UTF-8.") from None
    for error in _validator().iter_errors(document):
        where = ".".join(map(str, error.absolute_path)) or "the top"
        raise UnusableMap(f"In the mapping, at {where}: {error.message[:300]}.")
    mapping = Mapping.of({k: v for k, v in document.items() if k != "mossy_mapping"})
    for pattern in mapping.patterns:
        if not is_pattern(pattern):
            raise UnusableMap(f"In the mapping, “{pattern[:80]}” is no pattern.")
    if mapping.times.form not in FORMS and not is_written_form(mapping.times.form):
        raise UnusableMap(f"In the mapping, times cannot be read as “{mapping.times.form[:80]}”.")
    if mapping.times.zone not in available_timezones():
        raise UnusableMap(f"In the mapping, there is no time zone “{mapping.times.zone[:80]}”.")
    return mapping
