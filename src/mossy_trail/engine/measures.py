"""The one runner of all measures: figures, what is behind them, groups, time, and differences."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass, fields, is_dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.model.scope import Scope
from mossy_trail.core.stats.intervals import Difference, Share, difference
from mossy_trail.engine import (  # noqa: F401 - all that there are register themselves
    dropoffs,
    funnel,
    gates,
    links,
    loops,
    onboarding,
    paths,
    patterns,
    sign_in,
    startup,
    tabs,
)
from mossy_trail.engine.registry import EVIDENCE, MEASURES, NoParams
from mossy_trail.engine.scoped import Groups, groups_of, scope_mask
from mossy_trail.engine.study import MOST_GROUPS, Study

Mask = NDArray[np.bool_]


@dataclass(frozen=True)
class GroupFigures:
    """The figures of one group: a value of a property, or a stretch of time by its first day."""

    value: str
    figures: Any


@dataclass(frozen=True)
class Measured:
    """The figures of the whole scope, and of its groups, the largest or the earliest first.

    `between` has, of two groups, the first less the second, for every share by where it stands.
    """

    whole: Any
    groups: Sequence[GroupFigures]
    groups_left_out: int
    between: Mapping[str, Difference] | None

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


def measured(
    study: Study,
    scope: Scope,
    name: str,
    params: NoParams | None = None,
    by: str = "",
    over: str = "",
    two: tuple[str, str] | None = None,
) -> Measured:
    """Ask a measure, of the whole scope and of each group.

    Raises `KeyError` where there is no such measure or group.
    """
    measure = MEASURES[name]
    if two and not by:
        raise KeyError(two[0])
    asked = dict(params or measure.params())
    whole = measure.ask(study, scope, **asked)
    if not by and not over:
        return Measured(whole, [], 0, None)
    groups = groups_of(study, scope, by, over)
    codes = groups.some(_sizes(study, groups, scope_mask(study, scope), scope.unit))
    shown = codes if over else codes[:MOST_GROUPS]
    wanted = [groups.number(value) for value in two or ()]
    figures = {
        code: measure.ask(study, replace(scope, part=groups.part(code)), **asked)
        for code in dict.fromkeys([*shown, *wanted])
    }
    between = _between(*(figures[code] for code in wanted)) if two else None
    own = [GroupFigures(groups.values[code], figures[code]) for code in shown]
    return Measured(whole, own, len(codes) - len(shown), between)


def _sizes(study: Study, groups: Groups, inside: Mask, unit: str) -> NDArray[np.int64]:
    """Journeys, or users, of each group."""
    code, user = groups.code[inside], study.index.user[inside]
    if unit == "users":
        pairs = np.unique(code.astype("i8") * (int(user.max(initial=0)) + 1) + user)
        code = pairs // (int(user.max(initial=0)) + 1)
    return np.bincount(code, minlength=len(groups.values))


def _between(one: Any, other: Any) -> dict[str, Difference]:
    left, right = dict(shares(one)), dict(shares(other))
    found = {key: difference(left[key], right[key]) for key in left if key in right}
    return {key: gap for key, gap in found.items() if gap is not None}


def shares(figures: Any, path: str = "") -> Iterator[tuple[str, Share]]:
    """Every share of figures, by where it stands: names of fields, keys, and of rows."""
    if isinstance(figures, Share):
        yield path, figures
    elif is_dataclass(figures):
        for field in fields(figures):
            yield from shares(getattr(figures, field.name), _longer(path, field.name))
    elif isinstance(figures, dict):
        for key, value in figures.items():
            yield from shares(value, _longer(path, str(key)))
    elif isinstance(figures, (list, tuple)):
        for i, value in enumerate(figures):
            yield from shares(value, _longer(path, _name_of(value, i)))


def _longer(path: str, name: str) -> str:
    return f"{path}/{name}" if path else name


_NAMES = ("cell", "figure", "name", "cause", "screen", "mark")


def _name_of(row: Any, place: int) -> str:
    """What a row is told from the others by, whatever their order."""
    known = [str(getattr(row, name)) for name in _NAMES if hasattr(row, name)]
    return known[0] if known else str(place)


def behind(study: Study, scope: Scope, name: str, figure: str) -> Mask:
    """The journeys that a figure counts, as a mask over the index; kept, as pages are turned.

    Raises `KeyError` where there is no such measure or figure.
    """
    evidence = EVIDENCE[name]
    return study.evidence.of((scope, name, figure), lambda: evidence(study, scope, figure))
