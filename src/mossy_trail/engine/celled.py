"""Measures that count cells: how often each thing happened, and in which journeys."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.measures.cells import Cells
from mossy_trail.core.scope import Scope
from mossy_trail.core.stats import Difference, Share, difference, share
from mossy_trail.core.steps import Steps
from mossy_trail.engine.evidence import EVIDENCE
from mossy_trail.engine.scoped import each_inside, joined_inside, scope_mask
from mossy_trail.engine.study import MOST_GROUPS, Study

Mask = NDArray[np.bool_]
Name = tuple[str, ...]
Label = Callable[[Steps, Mask], Cells]


@dataclass(frozen=True)
class Count:
    """How often something happened, and in how many journeys; opens by `figure`."""

    figure: str
    times: int
    journeys: int


class Counts:
    """The cells of a scope, by their names."""

    def __init__(self, found: dict[Name, tuple[int, int]]) -> None:
        self._found = found

    def of(self, *name: str) -> Count:
        times, journeys = self._found.get(name, (0, 0))
        return Count(json.dumps(name, ensure_ascii=False), times, journeys)

    def under(self, *start: str) -> dict[Name, Count]:
        """Those whose names begin so, by the rest of the name; most often first."""
        size = len(start)
        some = [name for name in self._found if name[:size] == start and len(name) > size]
        some.sort(key=lambda name: (-self._found[name][0], name))
        return {name[size:]: self.of(*name) for name in some}


def counted(study: Study, scope: Scope, label: Label) -> Counts:
    """Ask every part for its cells, and add them up."""
    return added(each_inside(study, scope, lambda s, i: label(s, i).counts()))


def added(parts: Iterable[dict[Name, tuple[int, int]]]) -> Counts:
    """The cells of all parts, from the counts of each."""
    total: dict[Name, tuple[int, int]] = {}
    for found in parts:
        for name, (times, journeys) in found.items():
            before = total.get(name, (0, 0))
            total[name] = before[0] + times, before[1] + journeys
    return Counts(total)


def journeys_of(study: Study, scope: Scope, label: Label, figure: str) -> Mask:
    """The journeys of a cell; raises `KeyError` for what is none."""
    try:
        asked: Any = json.loads(figure)
    except ValueError:
        raise KeyError(figure) from None
    if not isinstance(asked, list) or not all(isinstance(word, str) for word in asked):
        raise KeyError(figure)
    name, known = tuple(asked), []

    def ask(steps: Steps, inside: Mask) -> Mask:
        cells = label(steps, inside)
        known.append(name in cells.names)
        found = np.zeros(len(inside), bool)
        found[cells.of(name)] = True
        return found

    mask = joined_inside(study, scope, ask)
    if known and not any(known):
        raise KeyError(figure)
    return mask


@dataclass(frozen=True)
class Part:
    """Of the journeys of a group, those behind a figure."""

    value: str
    share: Share


@dataclass(frozen=True)
class Breakdown:
    by: str
    groups: list[Part]
    groups_left_out: int
    between: Difference | None
    """The first of two groups less the second."""


def breakdown(
    study: Study,
    scope: Scope,
    measure: str,
    figure: str,
    by: str,
    two: tuple[str, str] | None = None,
) -> Breakdown:
    """The journeys behind any figure as shares of those in scope, for each value of a property."""
    wanted = study.property(by)
    code = np.concatenate([np.empty(0, "i4"), *study.each(lambda steps: wanted.of_journeys(steps))])
    inside = scope_mask(study, scope)
    behind = EVIDENCE[measure](study, scope, figure) & inside
    size = len(wanted.names)
    totals = np.bincount(code[inside], minlength=size)
    counts = np.bincount(code[behind], minlength=size)
    groups = [
        Part(wanted.names[c], share(int(counts[c]), int(totals[c])))
        for c in wanted.by_size(code[inside])
    ]
    known = {part.value: part.share for part in groups}
    between = difference(known[two[0]], known[two[1]]) if two else None
    return Breakdown(by, groups[:MOST_GROUPS], max(len(groups) - MOST_GROUPS, 0), between)
