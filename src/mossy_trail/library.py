"""Mossy Trail for scripts and notebooks: a log read and replayed, without a server or database."""

from __future__ import annotations

import inspect
import json
from collections.abc import Callable, Iterable
from datetime import UTC, date, datetime
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from mossy_trail.core.inference.draft import draft
from mossy_trail.core.model.log import split
from mossy_trail.core.model.people import people
from mossy_trail.core.model.scope import Scope, Unit
from mossy_trail.core.model.steps import count_users
from mossy_trail.engine import export, patterns, pictures
from mossy_trail.engine import journeys as listing
from mossy_trail.engine.compare import Comparison, Sides, compare
from mossy_trail.engine.findings import Findings, findings
from mossy_trail.engine.funnel import onboarding
from mossy_trail.engine.measures import Measured, behind, measured
from mossy_trail.engine.registry import MEASURES, Measure
from mossy_trail.engine.scoped import scope_mask
from mossy_trail.engine.study import Study
from mossy_trail.engine.trend import Trend, trend
from mossy_trail.intake.app_map_file import map_of, parse_map
from mossy_trail.intake.mapping_file import parse_mapping
from mossy_trail.intake.reader import LogFile, Watcher, read_log

PARTS = 8


def read(
    paths: str | Path | Iterable[str | Path],
    map: str | Path | dict[str, Any] | None = None,
    mapping: str | Path | None = None,
) -> Trail:
    """Read log files, replay them, and have their journeys, steps and measures.

    Parameters
    ----------
    paths : files, CSV, JSON, Parquet or XES, which are one log together.
    map : the app map, as a file or a document; without one it is drafted from the log.
    mapping : how the files' columns and words are read, as a file; else it is told by them.

    Raises
    ------
    mossy_trail.intake.errors.UnusableFile, UnusableMap : with the place and the mend.
    """
    named = [paths] if isinstance(paths, (str, Path)) else list(paths)
    told = parse_mapping(Path(mapping).read_bytes()) if mapping else None
    files = [LogFile(Path(path), str(path)) for path in named]
    log = people(read_log(files, lambda _: told, Watcher(), b"").log)
    if isinstance(map, dict):
        document = map
    else:
        document = parse_map(Path(map).read_bytes()) if map else draft([log]).document
    return Trail(Study(split(log, PARTS), map_of(document)))


class Trail:
    """A log, replayed. Each measure is a method; `where` narrows all of them.

    >>> import tempfile, pathlib
    >>> log = pathlib.Path(tempfile.mkdtemp()) / "log.csv"
    >>> _ = log.write_text(
    ...     "time,user,event,screen\\n"
    ...     "2026-05-04T10:00:00Z,ann,screen_view,Home\\n"
    ...     "2026-05-04T10:00:05Z,ann,push,Detail\\n"
    ...     "2026-05-04T10:00:09Z,ann,pop,Home\\n"
    ... )
    >>> trail = read(log)
    >>> trail
    <Trail: 1 journeys of 1 users>
    >>> trail.steps["move"].to_pylist()
    ['start', 'push', 'pop']
    >>> trail.steps["below"].to_pylist()
    [None, 'Home', None]
    """

    def __init__(self, study: Study, scope: Scope | None = None) -> None:
        self._study, self._scope = study, scope or Scope()

    def __repr__(self) -> str:
        users = count_users(self._study.index.user[self._inside])
        return f"<Trail: {int(self._inside.sum()):,} journeys of {users:,} users>"

    @property
    def _inside(self) -> Any:
        return scope_mask(self._study, self._scope)

    @property
    def steps(self) -> pa.Table:
        """Every step, with the columns of an exported file (docs/log-format.md)."""
        return pa.concat_tables(export.steps_of(self._study, self._inside))

    @property
    def journeys(self) -> pa.Table:
        """Every journey: its key, user, session, start, steps, deepest stack, entry and exit."""
        places = np.flatnonzero(self._inside).tolist()
        index = self._study.index
        return pa.Table.from_pylist(
            [listing.summary(self._study, index.ref(place)) for place in places]
        )

    def where(
        self,
        segment: dict[str, Any] | None = None,
        since: date | None = None,
        until: date | None = None,
        unit: Unit = "sessions",
    ) -> Trail:
        """The same of some journeys: a segment (docs/funnels.md), and days, both of them within."""
        text = json.dumps(segment) if segment else ""
        before = None if until is None else _midnight(until) + 86_400_000_000
        scope = Scope(None if since is None else _midnight(since), before, unit, text)
        return Trail(self._study, scope)

    def behind(self, measure: str, figure: str) -> Trail:
        """The journeys that a figure counts."""
        if not behind(self._study, self._scope, measure, figure).any():
            raise KeyError(figure)
        segment = {"measure": measure, "figure": figure}
        own = json.loads(self._scope.segment) if self._scope.segment else None
        both = {"all": [own, segment]} if own else segment
        scope = Scope(self._scope.since, self._scope.before, self._scope.unit, json.dumps(both))
        return Trail(self._study, scope)

    def matches(self, pattern: str) -> pa.Table:
        """Every match of a pattern (docs/patterns.md): of which journey, and its steps."""
        found = list(patterns.found_in(self._study, self._scope, pattern))
        return pa.Table.from_pylist(found) if found else pa.table({})

    def trend(
        self, measure: str, figure: str, by: str = "", over: str = "", timed: bool = False
    ) -> Trend:
        """A figure by the values of a property, or over “day” or “week”."""
        return trend(self._study, self._scope, measure, figure, by, over, timed)

    def compare(self, one: str, other: str = "", by: str = "") -> Comparison:
        """Two groups in all figures: values of `by`, or segments as JSON; "" for all others."""
        return compare(self._study, self._scope, Sides(one, other, by))

    def findings(self) -> Findings:
        """What stands out."""
        return findings(self._study, self._scope)

    def profile(self, key: str) -> Picture:
        """A journey as a trail profile, by its key in `journeys`."""
        detail = listing.detail(self._study, listing.by_key(self._study, key))
        return Picture(pictures.profile(detail["trail"]))

    def track(self, spec: dict[str, Any] | None = None) -> Picture:
        """A funnel as a track that narrows; without one, the map's onboarding."""
        document = spec or onboarding(self._study.app_map)
        if document is None:
            raise KeyError("onboarding")
        found = self.funnel(spec=json.dumps(document)).whole  # type: ignore[attr-defined]
        return Picture(pictures.track([(s.name, s.count) for s in found.stages]))


class Picture:
    """A drawing that a notebook shows."""

    def __init__(self, svg: str) -> None:
        self.svg = svg

    def __repr__(self) -> str:
        return f"<Picture: {len(self.svg):,} characters of SVG>"

    def _repr_svg_(self) -> str:
        return self.svg


def _midnight(day: date) -> int:
    moment = datetime(day.year, day.month, day.day, tzinfo=UTC)
    return int(moment.timestamp()) * 1_000_000


def _asking(measure: Measure) -> Callable[..., Measured]:
    """A method that asks a measure; its parameters are the measure's own, and groups."""

    def ask(
        self: Trail,
        *,
        by: str = "",
        over: str = "",
        versus: tuple[str, str] | None = None,
        **params: Any,
    ) -> Measured:
        asked = measure.params(**params)
        return measured(self._study, self._scope, measure.name, asked, by, over, versus)

    fields = measure.params.model_fields
    ask.__name__ = measure.name.replace("-", "_")
    ask.__doc__ = "\n".join(
        [
            measure.says,
            "",
            "Parameters",
            "----------",
            "by, over, versus : a property, “day” or “week”, and two of the property's values.",
            *(f"{name} : {field.description or name}" for name, field in fields.items()),
        ]
    )
    plain = inspect.signature(ask)
    named = [p for p in plain.parameters.values() if p.kind is not p.VAR_KEYWORD]
    own = [
        inspect.Parameter(
            name, inspect.Parameter.KEYWORD_ONLY,
            default=inspect.Parameter.empty if field.is_required() else field.default,
        )
        for name, field in fields.items()
    ]  # fmt: skip
    ask.__signature__ = plain.replace(parameters=[*named, *own])  # type: ignore[attr-defined]
    return ask


for _measure in MEASURES.values():
    setattr(Trail, _measure.name.replace("-", "_"), _asking(_measure))
