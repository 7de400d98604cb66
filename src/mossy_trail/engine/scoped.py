"""A question asked within a scope."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from dataclasses import dataclass, replace
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.model.log import DAY
from mossy_trail.core.model.scope import Part, Scope, Unit
from mossy_trail.core.model.steps import Steps, count_users
from mossy_trail.engine import segments
from mossy_trail.engine.study import Study

Answer = TypeVar("Answer")
Label = TypeVar("Label")
STRETCHES = {"day": 1, "week": 7}
"""Days of each stretch of time that figures are told over; weeks begin on Mondays."""
_THURSDAY = 3  # 1 January 1970


def scope_mask(study: Study, scope: Scope) -> NDArray[np.bool_]:
    """Which journeys of the index are in scope; kept, as every measure asks for them."""
    return study.scopes.of(scope, lambda: _inside(study, scope))


def _inside(study: Study, scope: Scope) -> NDArray[np.bool_]:
    dated = scope.dated(study.index.start, study.read_at)
    inside = dated & segments.of(study, scope.segment) if scope.segment else dated
    if scope.part is None:
        return inside
    groups = groups_of(study, replace(scope, part=None), scope.part.by, scope.part.over)
    if scope.part.value not in groups.values:
        return np.zeros(len(inside), bool)
    return inside & (groups.code == groups.number(scope.part.value))


@dataclass(frozen=True)
class Groups:
    """The group of each journey of the index, as a code into the values; shape (journeys,)."""

    values: list[str]
    code: NDArray[np.int32]
    by: str
    over: str

    def number(self, value: str) -> int:
        """Raises `KeyError` where there is no such group."""
        if value not in self.values:
            raise KeyError(value)
        return self.values.index(value)

    def part(self, code: int) -> Part:
        return Part(self.values[code], self.by, self.over)

    def some(self, counted: NDArray[np.int64]) -> list[int]:
        """The groups that there are, given how many each has: the largest first, times in order."""
        found = np.flatnonzero(counted).tolist()
        return found if self.over else sorted(found, key=lambda code: (-counted[code], code))


def groups_of(study: Study, scope: Scope, by: str, over: str = "") -> Groups:
    """The groups of a property's values, or of days or weeks; kept, as every group asks for them.

    Raises `KeyError` for a stretch of time that there is not.
    """
    found: Groups = study.groups.of((scope, by, over), lambda: _groups(study, scope, by, over))
    return found


def _groups(study: Study, scope: Scope, by: str, over: str) -> Groups:
    if over:
        width = STRETCHES[over]
        shift = _THURSDAY if over == "week" else 0
        number = (study.index.start // DAY + shift) // width
        first = int(number.min(initial=0))
        code = (number - first).astype("i4")
        days = (np.arange(int(code.max(initial=-1)) + 1) + first) * width - shift
        return Groups(days.astype("datetime64[D]").astype(str).tolist(), code, "", over)
    wanted = study.property(by)
    code = np.concatenate([np.empty(0, "i4"), *study.each(wanted.of_journeys)])
    if scope.unit == "users":
        code = _of_first(study, scope_mask(study, scope), code)
    return Groups(wanted.names, code, by, "")


def _of_first(
    study: Study, inside: NDArray[np.bool_], code: NDArray[np.int32]
) -> NDArray[np.int32]:
    """Per journey the code of its user's first one inside; a user's stand in order of time."""
    own = np.flatnonzero(inside)
    user, first = np.unique(study.index.user[own], return_index=True)
    of_user = np.zeros(int(study.index.user.max(initial=-1)) + 1, "i4")
    of_user[user] = code[own[first]]
    return of_user[study.index.user]


def each_inside(
    study: Study, scope: Scope, ask: Callable[[Steps, NDArray[np.bool_]], Answer]
) -> list[Answer]:
    """The answer of every part, in order; it is asked with the mask of its journeys in scope."""
    return study.each(ask, study.pieces(scope_mask(study, scope)))


def each_labelled(
    study: Study,
    scope: Scope,
    name: Hashable,
    label: Callable[[Steps, NDArray[np.bool_]], Label],
    ask: Callable[[Steps, NDArray[np.bool_], Label], Answer],
) -> list[Answer]:
    """The same, asked with its labels too. Those of the whole scope are kept by this name, but of
    parts in files: the journeys of figures are asked for after the figures."""
    if study.shelved or scope.part:
        return each_inside(study, scope, lambda steps, own: ask(steps, own, label(steps, own)))
    pieces = study.pieces(scope_mask(study, scope))
    labels = study.labels.of((scope, name), lambda: study.each(label, pieces))
    return study.each(ask, pieces, labels)


def size_of(steps: Steps, inside: NDArray[np.bool_], unit: Unit) -> int:
    """How many journeys, or users, are inside."""
    return count_users(steps.journeys.user[inside]) if unit == "users" else int(inside.sum())


def alone(steps: Steps, number: int) -> NDArray[np.bool_]:
    """A mask of one journey; shape (journeys,)."""
    found = np.zeros(len(steps.journeys.start), bool)
    found[number] = True
    return found


def joined_inside(
    study: Study, scope: Scope, ask: Callable[[Steps, NDArray[np.bool_]], NDArray[np.bool_]]
) -> NDArray[np.bool_]:
    """A mask over the index from a mask of each part's journeys."""
    return np.concatenate([np.empty(0, bool), *each_inside(study, scope, ask)])


def joined_labelled(
    study: Study,
    scope: Scope,
    name: Hashable,
    label: Callable[[Steps, NDArray[np.bool_]], Label],
    ask: Callable[[Steps, NDArray[np.bool_], Label], NDArray[np.bool_]],
) -> NDArray[np.bool_]:
    """The same, asked with its labels too."""
    return np.concatenate([np.empty(0, bool), *each_labelled(study, scope, name, label, ask)])
