"""Figures as tables for a terminal."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from rich.box import SIMPLE_HEAD
from rich.table import Table

Row = dict[str, str]
_MILLISECONDS = ("took", "dwell", "load", "time_to", "times")
"""Figures whose median is one of times."""


def tables_of(figures: Mapping[str, Any], title: str) -> Iterator[Table]:
    """Every list of figures as a table of its own, after one of those that stand alone."""
    alone = {
        name: told for name, value in figures.items() if (told := _told(value, name)) is not None
    }
    yield _table(title, [{"": _words(name), "told": told} for name, told in alone.items()])
    for name, value in figures.items():
        if name not in alone:
            rows = list(_rows(value))
            if rows:
                yield _table(f"{title}: {_words(name)}", rows)


def _rows(value: Any) -> Iterator[Row]:
    if isinstance(value, Mapping):
        for name, own in value.items():
            told = _told(own, name)
            yield {"": _words(name), **({"told": told} if told is not None else dict(_cells(own)))}
    elif isinstance(value, list | tuple):
        for own in value:
            yield dict(_cells(own)) if isinstance(own, Mapping) else {"": str(own)}


def _cells(row: Any) -> Iterator[tuple[str, str]]:
    """What can be told in one cell of each; what is a list of its own is left to JSON."""
    if isinstance(row, Mapping):
        for name, value in row.items():
            told = _told(value, name)
            if told is not None and name != "figure":
                yield _words(name), told


def _told(value: Any, name: str) -> str | None:
    """A figure in few words, as the pages say it; None where it is not one."""
    if isinstance(value, Mapping):
        return _of_parts(value, name)
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, int):
        return f"{value:,}"
    if isinstance(value, float):
        return f"{value:,.1f}"
    if isinstance(value, list | tuple):
        return " → ".join(value) if value and all(isinstance(one, str) for one in value) else None
    return "" if value is None else str(value)


def _of_parts(value: Mapping[str, Any], name: str) -> str | None:
    if {"count", "of", "low", "high"} <= value.keys():
        if not value["of"]:
            return "not told"
        share, low, high = value["count"] / value["of"], value["low"], value["high"]
        return f"{share:.1%} ({low:.1%} to {high:.1%}) of {value['of']:,}"
    if {"times", "journeys", "users"} <= value.keys():
        return f"{value['times']:,}"
    if "median" in value:
        return f"{value['median']:,.0f}" + (" ms" if name in _MILLISECONDS else "")
    return None


def _words(name: str) -> str:
    return name.replace("_", " ")


def _table(title: str, rows: list[Row]) -> Table:
    table = Table(title=title, title_justify="left", title_style="bold", box=SIMPLE_HEAD)
    names = list(dict.fromkeys(name for row in rows for name in row))
    for name in names:
        told = (row.get(name, "") for row in rows)
        numbers = all(one.replace(",", "").replace(".", "").isdecimal() for one in told if one)
        table.add_column(
            name, justify="right" if numbers else "left", min_width=0 if numbers else 9
        )
    for row in rows:
        table.add_row(*(row.get(name, "") for name in names))
    return table
