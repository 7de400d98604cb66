"""Any figure by the values of a property, or by day or week with what changed and when."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pydantic import ValidationError

from mossy_trail.core.measures import health
from mossy_trail.core.model.log import DAY, NONE
from mossy_trail.core.model.scope import Scope
from mossy_trail.core.model.steps import MARK, Steps
from mossy_trail.core.stats.changes import CHANCE, splits
from mossy_trail.core.stats.clustered import Gap, estimates, gaps
from mossy_trail.core.stats.medians import gap_of_medians, middle
from mossy_trail.engine.compare import Side, side_of, side_of_times
from mossy_trail.engine.health import hours
from mossy_trail.engine.measures import behind
from mossy_trail.engine.rates import (
    RATES,
    Asked,
    Rate,
    Series,
    Told,
    Took,
    series_in,
    sums_of,
    timed_series,
    told_by,
)
from mossy_trail.engine.scoped import Groups, groups_of, scope_mask
from mossy_trail.engine.study import MOST_GROUPS, Study

Mask = NDArray[np.bool_]
RELEASED = 0.05
"""Of a day's journeys the share from which on a version counts as released."""
_POOR, _MANY_TIMES = 0.02, 3
"""A day is poor where so many of its steps landed elsewhere, and so many times the usual."""


@dataclass(frozen=True)
class Point:
    """A stretch of time by its first day, or a value; `figure` is none where nothing is of it."""

    value: str
    journeys: int
    figure: Side | None
    poor: bool


@dataclass(frozen=True)
class Change:
    """From `day` on the figure was another; `p` is how likely chance alone makes so clear a
    change."""

    day: str
    before: Side
    after: Side
    p: float


@dataclass(frozen=True)
class Release:
    """The first day on which a version had a share of the journeys."""

    day: str
    version: str


@dataclass(frozen=True)
class Trend:
    """`says` and `of` are words for the figure, empty where it is a share of what is in scope.

    Where two values were asked for, `between` is the first less the second.
    """

    says: str
    of: str
    timed: bool
    whole: Side | None
    points: list[Point]
    left_out: int
    changes: list[Change]
    releases: list[Release]
    between: Gap | None
    has_time: bool
    """It can be asked how long it took."""


def trend(
    study: Study,
    scope: Scope,
    measure: str,
    figure: str,
    by: str = "",
    over: str = "",
    timed: bool = False,
    two: tuple[str, str] | None = None,
) -> Trend:
    """A figure by the values of a property, or over “day” or “week”.

    Raises `KeyError` where there is no such measure, figure, value or stretch of time.
    """
    series = series_of(study, scope, measure, figure, timed)
    groups = groups_of(study, scope, by, over)
    inside = scope_mask(study, scope)
    code = np.where(inside, groups.code, NONE).astype("i8")
    sizes = np.bincount(code[inside], minlength=len(groups.values))
    some = groups.some(sizes)
    shown = some if over else some[:MOST_GROUPS]
    poor = _poor_days(study) if over else set()
    points = [
        Point(
            groups.values[own],
            int(sizes[own]),
            _side(study, series, code == own),
            _any_poor(groups.values[own], over, poor),
        )
        for own in shown
    ]
    return Trend(
        series.says,
        series.of,
        timed,
        _side(study, series, inside),
        points,
        len(some) - len(shown),
        _changes(study, series, groups, points, code) if over else [],
        _releases(study, scope, inside) if over else [],
        _between(study, series, code, [groups.number(one) for one in two]) if two else None,
        series.has_time,
    )


def value_of(study: Study, scope: Scope, measure: str, figure: str, timed: bool) -> Side | None:
    """A figure of the whole scope; None where it is of nothing. Raises `KeyError`."""

    def found() -> Side | None:
        series = series_of(study, scope, measure, figure, timed)
        return _side(study, series, scope_mask(study, scope))

    value: Side | None = study.values.of((scope, measure, figure, timed), found)
    return value


def series_of(study: Study, scope: Scope, measure: str, figure: str, timed: bool) -> Series:
    """What a figure counts in each journey; of one without a base of its own, the journeys in
    scope. Raises `KeyError`."""
    cell, params = _asked(measure, figure)
    if measure in RATES:
        told = _told(study, scope, Asked(measure, params))
        times, rates = (_found([own[kind] for own in told], cell) for kind in (1, 0))
        if timed and times:
            return replace(timed_series(study, *times), has_time=True)
        if rates and not timed:
            series = series_in(study, *rates, scope.unit == "users")
            return replace(series, has_time=times is not None)
    if timed:
        raise KeyError(figure)
    inside = scope_mask(study, scope)
    found = behind(study, scope, measure, figure)
    return Series("", "", found.astype("i8"), inside.astype("i8"), scope.unit == "users")


def _told(study: Study, scope: Scope, asked: Asked) -> list[Told]:
    """Raises `KeyError` for parameters that cannot be used."""
    try:
        return told_by(study, scope, asked)
    except ValidationError as error:
        raise KeyError(str(error)) from None


def _found(parts: Sequence[Sequence[Any]], cell: Any) -> tuple[Sequence[Any], int] | None:
    """The kind that a figure is of, as each part tells it, and its number there."""
    numbered = ((kind, _number(kind, cell)) for kind in zip(*parts, strict=True))
    return next(((kind, number) for kind, number in numbered if number != NONE), None)


def _asked(measure: str, figure: str) -> tuple[Any, dict[str, Any]]:
    """What a figure names: its cell, and the parameters of its measure."""
    try:
        found = json.loads(figure)
    except (ValueError, RecursionError):
        return figure, {}
    if not isinstance(found, dict):
        return found, {}
    params = {key: value for key, value in found.items() if key != "cell"}
    if "funnel" in params:
        params = {"spec": json.dumps(params["funnel"])}
    return found.get("cell"), params if measure in RATES else {}


def _number(kind: Sequence[Rate | Took], cell: Any) -> int:
    """The cell of a kind that a figure names, −1 where it is none of it."""
    one = kind[0]
    if one.figure:
        return 0 if _asked("", one.figure)[0] == cell else NONE
    if not isinstance(cell, list) or not cell or cell[0] != one.kind:
        return NONE
    naming = one.naming if isinstance(one, Took) else one.told.naming
    number = naming.number(tuple(map(str, cell[1:])))
    numbers = (own.number if isinstance(own, Took) else own.told.number for own in kind)
    return number if any((own == number).any() for own in numbers) else NONE


def _side(study: Study, series: Series, inside: Mask) -> Side | None:
    if series.took is not None and series.at is not None:
        own = inside[series.at]
        found = middle(series.took[own], study.index.user[series.at[own]].astype("i8"))
        if found is None:
            return None
        return side_of_times(found)
    sums = sums_of(study, series, np.where(inside, 0, NONE), 1)
    told = estimates(sums).at(0, 0)
    return side_of(told) if told.of else None


def _changes(
    study: Study, series: Series, groups: Groups, points: Sequence[Point], code: NDArray[np.int64]
) -> list[Change]:
    """Changes of level that neither the spread between days nor that between users explains."""
    known = [(groups.number(one.value), one.figure) for one in points if one.figure]
    days = np.array([day for day, _ in known], "i8")
    level = np.array([own.value for _, own in known])
    found = splits(level, np.array([float(own.of) for _, own in known]))
    edges = [0, *(own.at for own in found), len(days)]
    changes = []
    for begin, split, end in zip(edges, found, edges[2:], strict=False):
        first, turn, last = days[begin], days[split.at], days[end - 1]
        slot = np.where((code >= first) & (code < turn), 1, NONE)
        slot = np.where((code >= turn) & (code <= last), 0, slot)
        told = _gap(study, series, slot)
        if told is None or told.p is None or told.p * (end - begin) > CHANCE:
            continue
        after, before = (_side(study, series, slot == side) for side in (0, 1))
        assert after
        assert before
        p = max(split.p, told.p * (end - begin))
        changes.append(Change(groups.values[int(turn)], before, after, p))
    return changes


def _between(
    study: Study, series: Series, code: NDArray[np.int64], two: Sequence[int]
) -> Gap | None:
    return _gap(study, series, np.where(code == two[0], 0, np.where(code == two[1], 1, NONE)))


def _gap(study: Study, series: Series, slot: NDArray[np.int64]) -> Gap | None:
    """Slot 0 less slot 1; None where nothing is of one of them."""
    if series.took is None or series.at is None:
        return gaps(sums_of(study, series, slot, 2)).at(0)
    own = slot[series.at] >= 0
    at = series.at[own]
    user = study.index.user[at].astype("i8")
    return gap_of_medians(series.took[own], user, slot[at])


def _releases(study: Study, scope: Scope, inside: Mask) -> list[Release]:
    versions = study.property("version").values
    if not 2 <= len(versions) <= MOST_GROUPS or not inside.any():
        return []
    days = groups_of(study, scope, "", "day")
    codes = np.concatenate(study.each(study.property("version").of_journeys))
    size = len(versions) + 1
    table = np.bincount(
        days.code[inside].astype("i8") * size + codes[inside], minlength=len(days.values) * size
    ).reshape(-1, size)
    begun = int(np.argmax(table.any(1)))
    enough = table[:, :-1] > RELEASED * np.maximum(table.sum(1, keepdims=True), 1)
    first = [int(np.argmax(column)) if column.any() else NONE for column in enough.T]
    return sorted(
        (Release(days.values[day], versions[i]) for i, day in enumerate(first) if day > begun),
        key=lambda one: one.day,
    )


def _poor_days(study: Study) -> set[str]:
    """Days with a gap in the log, or on which far more steps than usual landed elsewhere."""
    rows, begun, start = hours(study)
    poor: set[str] = set()
    for one in health.gaps(rows, begun, start):
        day = one.start // DAY
        while day * DAY < one.end:
            poor.add(str(np.datetime64(int(day), "D")))
            day += 1
    odd, every = _elsewhere(study, start // DAY, len(rows) // 24 + 2)
    share = odd / np.maximum(every, 1)
    usual = float(np.median(share[every > 0])) if every.any() else 0.0
    worst = np.flatnonzero((share > _POOR) & (share > _MANY_TIMES * usual))
    return poor | {str(np.datetime64(int(start // DAY + own), "D")) for own in worst}


def _elsewhere(
    study: Study, first: int, days: int
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Per day the steps that landed elsewhere than predicted, and all."""

    def ask(steps: Steps) -> NDArray[np.int64]:
        day = steps.steps.visible // DAY - first
        known = (day >= 0) & (day < days)
        off = steps.steps.marks[known] & MARK["landed_elsewhere"] != 0
        own = (day[known][off], day[known])
        return np.stack([np.bincount(of, minlength=days) for of in own])

    odd, every = sum(study.each(ask), np.zeros((2, days)))
    return odd, every


def _any_poor(value: str, over: str, poor: set[str]) -> bool:
    if over != "week":
        return value in poor
    first = date.fromisoformat(value)
    return any((first + timedelta(days=i)).isoformat() in poor for i in range(7))
