"""The replay of parts as files: what need not be in memory to be asked."""

from __future__ import annotations

from typing import Any

from mossy_trail.core.model.app_map import Places
from mossy_trail.core.model.log import Log
from mossy_trail.core.model.steps import Entries, JourneyColumns, StepColumns, Steps
from mossy_trail.store.folder import Folder

_TABLES: dict[str, Any] = {
    "entries": Entries,
    "steps": StepColumns,
    "journeys": JourneyColumns,
}
_BOOLEANS = ("inferred", "unsure", "loaded")
"""Kept a byte each, as they are mapped."""


def keep(folder: Folder, number: int, steps: Steps, log: Log) -> None:
    """Write the replay of a part; `log` is what was replayed, and is kept elsewhere."""
    for table in _TABLES:
        columns = getattr(steps, table)._asdict()
        plain = {key: own.view("u1") if own.dtype == bool else own for key, own in columns.items()}
        folder.write_columns(_name(table, number), plain)
    given = log.columns
    own = {name: told for name, told in steps.log.columns.items() if told is not given[name]}
    folder.write_columns(_name("rows", number), {"fate": steps.fate, **own})


def kept(folder: Folder, number: int, log: Log, places: Places) -> Steps:
    """The replay of a part of this log."""
    found: dict[str, Any] = {}
    for table, kind in _TABLES.items():
        columns = folder.read_columns(_name(table, number))
        for key in columns.keys() & set(_BOOLEANS):
            columns[key] = columns[key].view(bool)
        found[table] = kind(**columns)
    rows = folder.read_columns(_name("rows", number))
    fate = rows.pop("fate")
    return Steps(Log({**log.columns, **rows}, log.terms), places, fate=fate, **found)


def _name(table: str, number: int) -> str:
    return f"{table}-{number:04}.arrow"
