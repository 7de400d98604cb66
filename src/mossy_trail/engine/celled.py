"""Measures that count cells: how often each thing happened, and in which journeys."""

from __future__ import annotations

import json
from collections.abc import Callable, Hashable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.measures.cells import Cells, Naming, Tally, Words, added
from mossy_trail.core.model.log import NONE
from mossy_trail.core.model.scope import Scope
from mossy_trail.core.model.steps import Steps
from mossy_trail.engine.registry import words_of
from mossy_trail.engine.scoped import each_labelled
from mossy_trail.engine.study import Study

Mask = NDArray[np.bool_]
Labels = Mapping[str, Cells]
"""The cells of a part, by their kinds."""
Label = Callable[[Steps, Mask], tuple[Labels, Any]]
"""What tells the cells of a part, and whatever else there is to tell of the same journeys."""
Tallies = Mapping[str, tuple[Naming, Tally]]


@dataclass(frozen=True)
class Count:
    """How often something happened, in how many journeys, of how many users; opens by `figure`."""

    figure: str
    times: int
    journeys: int
    users: int


class Counts:
    """The cells of a scope; each has the name of its kind, then its own."""

    def __init__(self, parts: Sequence[Tallies]) -> None:
        kinds = parts[0] if parts else {}
        self._naming = {kind: kinds[kind][0] for kind in kinds}
        self._rows: dict[str, dict[int, Sequence[int]]] = {}
        for kind in kinds:
            columns = added([part[kind][1] for part in parts])
            rows = zip(*(column.tolist() for column in columns[1:]), strict=True)
            self._rows[kind] = dict(zip(columns.number.tolist(), rows, strict=True))
        self._grouped: dict[str, dict[str, dict[Words, Count]]] = {}

    def number(self, kind: str, *name: str) -> int:
        """The number of a cell, −1 for none."""
        return self._naming[kind].number(name) if kind in self._naming else NONE

    def of(self, kind: str, *name: str) -> Count:
        number = self.number(kind, *name)
        counts = self._rows[kind].get(number, _NEVER) if number != NONE else _NEVER
        return Count(figure_of((kind, *name)), *counts)

    def size(self, kind: str) -> int:
        """How many cells of a kind occur."""
        return len(self._rows.get(kind, ()))

    def all(self, kind: str, most: int | None = None) -> dict[Words, Count]:
        """The cells of a kind, or those of most times; most often first."""
        rows = self._rows.get(kind, {})
        order = sorted(rows, key=lambda number: (-rows[number][0], number))[:most]
        names = [self._naming[kind].name(number) for number in order]
        counts = [Count(figure_of((kind, *n)), *rows[i]) for n, i in zip(names, order, strict=True)]
        return dict(zip(names, counts, strict=True))

    def under(self, kind: str, first: str) -> dict[Words, Count]:
        """The cells of a kind whose names begin so, by the rest; most often first."""
        if kind not in self._grouped:
            grouped = self._grouped[kind] = {}
            for name, count in self.all(kind).items():
                grouped.setdefault(name[0], {})[name[1:]] = count
        return self._grouped[kind].get(first, {})


_NEVER = (0, 0, 0)


def figure_of(name: Words) -> str:
    return json.dumps(name, ensure_ascii=False)


def tallied(steps: Steps, labels: Labels) -> Tallies:
    """The cells of a part, counted."""
    user = steps.journeys.user
    return {kind: (own.naming, own.tally(user)) for kind, own in labels.items()}


def name_of(figure: str) -> Words:
    """The name of a cell; raises `KeyError` for what is none."""
    asked = words_of(figure)
    if not asked:
        raise KeyError(figure)
    return tuple(asked)


def journeys_of(study: Study, scope: Scope, name: Hashable, label: Label, figure: str) -> Mask:
    """The journeys of a cell; raises `KeyError` for what is none."""
    return journeys_of_each(study, scope, name, label, [figure])[0]


def journeys_of_each(
    study: Study,
    scope: Scope,
    name: Hashable,
    label: Label,
    figures: Sequence[str],
) -> NDArray[np.bool_]:
    """The same of several cells; shape (figures, journeys)."""
    names = [(figure, *name_of(figure)) for figure in figures]

    def ask(steps: Steps, inside: Mask, labelled: tuple[Labels, Any]) -> Mask:
        labels, _ = labelled
        found = np.zeros((len(names), len(inside)), bool)
        for own, (figure, kind, *words) in zip(found, names, strict=True):
            if kind not in labels or labels[kind].naming.number(tuple(words)) == NONE:
                raise KeyError(figure)
            own[labels[kind].of(tuple(words))] = True
        return found

    none = np.zeros((len(names), 0), bool)
    return np.concatenate([none, *each_labelled(study, scope, name, label, ask)], axis=1)
