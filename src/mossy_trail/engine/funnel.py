"""Funnels: figures of each stage and group, and the journeys behind each."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from functools import partial
from typing import Any, Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.app_map import AppMap
from mossy_trail.core.conditions import Clause
from mossy_trail.core.log import SECOND
from mossy_trail.core.measures.funnel import Funnel, Labels, Stage, by_user, label
from mossy_trail.core.properties import Property
from mossy_trail.core.scope import Scope
from mossy_trail.core.stats import SMALL, Difference, Quartiles, Share, difference, quartiles, share
from mossy_trail.core.steps import Steps
from mossy_trail.engine.evidence import evidence_of
from mossy_trail.engine.scoped import each_inside, joined_inside
from mossy_trail.engine.study import MOST_GROUPS, Study

Count = Literal["unit", "attempts"]


@dataclass(frozen=True)
class Asked:
    """A funnel and what is counted: sessions or users, as the scope says, or attempts."""

    funnel: Funnel
    count: Count = "unit"

    @classmethod
    def of(cls, document: dict[str, Any]) -> Asked:
        """From its document; see `web.schemas.FunnelSpec` for the form."""
        stages = tuple(
            Stage(stage.get("name", ""), tuple(_clause(clause) for clause in stage["any"]))
            for stage in document["stages"]
        )
        window = document.get("window")
        funnel = Funnel(
            stages,
            document.get("order", "in_order"),
            None if window is None else int(window * SECOND),
            tuple(document.get("void", ())),
            document.get("held", ""),
            document.get("first_ever", False),
        )
        return cls(funnel, document.get("count", "unit"))


def _clause(document: dict[str, Any]) -> Clause:
    known: dict[str, Any] = {}
    for key, value in document.items():
        if isinstance(value, dict):
            known[key] = {name: tuple(values) for name, values in value.items()}
        else:
            known[key] = value if isinstance(value, str) else tuple(value)
    return Clause(**known)


def onboarding(app_map: AppMap) -> dict[str, Any] | None:
    """The document of the map's onboarding chain, with getting inside as its last stage."""
    chain = app_map.funnels.get("onboarding", ())
    stages = [{"name": screen, "any": [{"screens": [screen]}]} for screen in chain]
    if stages and app_map.tabs:
        tabs = [tab.name for tab in app_map.tabs]
        stages.append({"name": "inside", "any": [{"tabs": tabs}]})
    return {"stages": stages} if stages else None


@dataclass(frozen=True)
class Loss:
    """Where some went who got no further; `share` is of the stage they left from."""

    cell: str
    way: Literal["ended", "back", "to"]
    screen: str
    share: Share


@dataclass(frozen=True)
class StageFigures:
    """Times are in milliseconds, to this stage from the one before."""

    cell: str
    name: str
    count: int
    of_first: Share
    of_previous: Share
    time_to: Quartiles | None
    losses: list[Loss]


@dataclass(frozen=True)
class FunnelGroup:
    """The figures of one value of a property; the whole has none."""

    value: str | None
    stages: list[StageFigures]
    whole_time: Quartiles | None
    """From the first stage to the last."""
    small: bool


@dataclass(frozen=True)
class StageDifference:
    of_first: Difference | None
    of_previous: Difference | None


@dataclass(frozen=True)
class FunnelFigures:
    counted: str
    """What is counted: sessions, users or attempts."""
    in_scope: int
    """Journeys in scope."""
    whole: FunnelGroup
    groups: list[FunnelGroup]
    groups_left_out: int
    between: list[StageDifference] | None
    """Per stage, the first of two groups less the second."""

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


class _Found(NamedTuple):
    """The matches of all parts."""

    reached: NDArray[np.int8]
    went: NDArray[np.int32]
    back: NDArray[np.bool_]
    times: NDArray[np.int64]
    group: NDArray[np.int32]


def measure(
    study: Study,
    scope: Scope,
    asked: Asked,
    by: str = "",
    two: tuple[str, str] | None = None,
) -> FunnelFigures:
    """Ask every part, and count.

    `by` names a property: then the same figures for each of its values, the most common first;
    `two` of these are held against each other.
    """
    wanted = study.property(by) if by else None
    ask = partial(_ask, asked=asked, unit=scope.unit, wanted=wanted)
    parts = each_inside(study, scope, ask)
    in_scope = sum(count for _, count in parts)
    found = _joined([part for part, _ in parts], len(asked.funnel.stages))
    names = study.parts[0].places.names if study.parts else []
    whole = _group(None, found, asked, names)
    groups = _groups(found, asked, names, wanted) if wanted else []
    between = _between(groups, two) if two else None
    counted = "attempts" if asked.count == "attempts" else scope.unit
    counted = "users" if asked.funnel.first_ever else counted
    left_out = max(len(groups) - MOST_GROUPS, 0)
    return FunnelFigures(counted, in_scope, whole, groups[:MOST_GROUPS], left_out, between)


def _ask(
    steps: Steps,
    inside: NDArray[np.bool_],
    asked: Asked,
    unit: str,
    wanted: Property | None,
) -> tuple[_Found, int]:
    labels = _labels(steps, inside, asked, unit)
    group = np.zeros(len(labels.reached), "i4")
    if wanted:
        group = wanted.of_journeys(steps)[labels.journey]
    found = _Found(labels.reached, labels.went, labels.back, labels.times, group)
    return found, int(inside.sum())


def _labels(steps: Steps, inside: NDArray[np.bool_], asked: Asked, unit: str) -> Labels:
    per: Literal["journey", "attempt"] = "attempt" if asked.count == "attempts" else "journey"
    labels = label(steps, asked.funnel, inside, per)
    if unit == "users" and per == "journey":
        return by_user(labels, steps.journeys.user)
    return labels


def _joined(parts: Sequence[_Found], stages: int) -> _Found:
    if not parts:
        empty = np.empty(0, "i4")
        times = np.empty((0, stages), "i8")
        return _Found(empty.astype("i1"), empty, empty.astype(bool), times, empty)
    return _Found(*(np.concatenate(columns) for columns in zip(*parts, strict=True)))


def _groups(
    found: _Found, asked: Asked, names: Sequence[str], wanted: Property
) -> list[FunnelGroup]:
    groups = []
    for code in wanted.by_size(found.group):
        own = _Found(*(column[found.group == code] for column in found))
        groups.append(_group(wanted.names[code], own, asked, names))
    return groups


def _group(value: str | None, found: _Found, asked: Asked, names: Sequence[str]) -> FunnelGroup:
    stages = asked.funnel.stages
    counts = [int((found.reached > i).sum()) for i in range(len(stages))]
    figures = []
    for i, stage in enumerate(stages):
        before = max(i - 1, 0)
        shares = share(counts[i], counts[0]), share(counts[i], counts[before])
        to = None
        if i:
            there = found.reached > i
            to = quartiles((found.times[there, i] - found.times[there, i - 1]) / 1000)
        losses = _losses(found, i, names) if i + 1 < len(stages) else []
        name = f"at least {i + 1} of them" if asked.funnel.order == "any" else stage.name
        figures.append(StageFigures(f"stage.{i}", name, counts[i], *shares, to, losses))
    done = found.reached == len(stages)
    whole = quartiles((found.times[done, -1] - found.times[done, 0]) / 1000)
    return FunnelGroup(value, figures, whole, counts[0] < SMALL)


def _losses(found: _Found, stage: int, names: Sequence[str]) -> list[Loss]:
    """Where those went that reached this stage and no further, most first."""
    lost = found.reached == stage + 1
    went, back = found.went[lost], found.back[lost]
    total = int((found.reached > stage).sum())
    ways: list[tuple[Literal["ended", "back", "to"], str, int]] = [
        ("ended", "", int((went < 0).sum())),
        ("back", "", int(back.sum())),
    ]
    on = np.bincount(went[(went >= 0) & ~back], minlength=len(names))
    ways += [("to", names[code], int(on[code])) for code in np.flatnonzero(on).tolist()]
    ways.sort(key=lambda way: (-way[2], way[1]))
    return [
        Loss(_cell(stage, way, screen), way, screen, share(count, total))
        for way, screen, count in ways
        if count
    ]


def _cell(stage: int, way: str, screen: str) -> str:
    return f"lost.{stage}.{way}" + (f".{screen}" if screen else "")


def _between(groups: Sequence[FunnelGroup], two: tuple[str, str]) -> list[StageDifference]:
    """The differences of two groups; raises `KeyError` where one is not there."""
    known = {group.value: group for group in groups}
    one, other = known[two[0]], known[two[1]]
    return [
        StageDifference(
            difference(a.of_first, b.of_first), difference(a.of_previous, b.of_previous)
        )
        for a, b in zip(one.stages, other.stages, strict=True)
    ]


@evidence_of("funnel")
def evidence(study: Study, scope: Scope, figure: str) -> NDArray[np.bool_]:
    """The journeys in which a cell's matches begin; raises `KeyError` for one that there is not.

    Cells: `stage.I` (got there), `lost.I` (and no further), `lost.I.ended`, `lost.I.back`,
    `lost.I.to.SCREEN`. With attempts, a journey can hold several.
    """
    try:
        document = json.loads(figure)
        asked, cell = Asked.of(document["funnel"]), str(document["cell"])
        wanted = study.property(document["by"]) if document.get("by") else None
    except (ValueError, TypeError, AttributeError):
        raise KeyError(figure) from None
    of_cell = _cell_test(study, cell, len(asked.funnel.stages))

    def ask(steps: Steps, inside: NDArray[np.bool_]) -> NDArray[np.bool_]:
        labels = _labels(steps, inside, asked, scope.unit)
        chosen = of_cell(labels)
        if wanted:
            chosen &= wanted.having(steps, [document["value"]])[labels.journey]
        found = np.zeros(len(inside), bool)
        found[labels.journey[chosen]] = True
        return found

    return joined_inside(study, scope, ask)


def _cell_test(study: Study, cell: str, stages: int) -> Any:
    """Which labels a cell counts."""
    kind, _, rest = cell.partition(".")
    number, _, way = rest.partition(".")
    if not number.isdecimal() or int(number) >= stages or kind not in ("stage", "lost"):
        raise KeyError(cell)
    stage = int(number)
    if kind == "stage" and not way:
        return lambda labels: labels.reached > stage
    screen = way.removeprefix("to.")
    names = study.parts[0].places.names if study.parts else []
    if kind == "stage" or (way not in ("", "ended", "back") and screen not in names):
        raise KeyError(cell)

    def test(labels: Labels) -> NDArray[np.bool_]:
        lost = labels.reached == stage + 1
        if way == "ended":
            lost &= labels.went < 0
        elif way == "back":
            lost &= labels.back
        elif way:
            lost &= (labels.went == names.index(screen)) & ~labels.back
        return np.asarray(lost)

    return test


def matched_steps(study: Study, asked: Asked, part: int, journey: int) -> list[tuple[int, int]]:
    """Which step of a journey, from 1, meets which stage, of the match that counts."""
    steps = study.parts[part]
    inside = np.zeros(len(steps.journeys.start), bool)
    inside[journey] = True
    labels = label(steps, asked.funnel, inside)
    first = int(steps.journeys.first_step[journey])
    return [
        (stage, int(step) - first + 1)
        for at, reached in zip(labels.steps, labels.reached, strict=True)
        for stage, step in enumerate(at[:reached])
        if step >= 0
    ]
