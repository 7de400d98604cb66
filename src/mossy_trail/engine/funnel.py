"""Funnels: figures of each stage and group, and the journeys behind each."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from mossy_trail.core.measures.funnel import (
    BACK,
    ENDED,
    TO,
    Funnel,
    Labels,
    Stage,
    Tally,
    by_user,
    label,
    tally,
)
from mossy_trail.core.model.app_map import AppMap
from mossy_trail.core.model.conditions import Clause
from mossy_trail.core.model.log import SECOND
from mossy_trail.core.model.scope import Scope
from mossy_trail.core.model.steps import Steps
from mossy_trail.core.stats.intervals import SMALL, Quartiles, Share, quartiles, share
from mossy_trail.engine.funnel_spec import FunnelSpec
from mossy_trail.engine.rates import Asking, Told, Took, document, rates_of, single, single_time
from mossy_trail.engine.registry import NoParams, document_of, evidence_of, measure_of
from mossy_trail.engine.scoped import alone, each_inside, scope_mask
from mossy_trail.engine.study import Study
from mossy_trail.intake.pattern_text import read_pattern

Count = Literal["unit", "attempts"]


@dataclass(frozen=True)
class Asked:
    """A funnel and what is counted: sessions or users, as the scope says, or attempts."""

    funnel: Funnel
    count: Count = "unit"

    def of_users(self, unit: str) -> bool:
        """Whether each user's best match counts, and no other."""
        return unit == "users" and self.count != "attempts"

    @classmethod
    def of(cls, document: dict[str, Any]) -> Asked:
        """From its document; see `FunnelSpec` for the form."""
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
        if key == "pattern":
            known[key] = read_pattern(value) if value else None
        elif isinstance(value, dict):
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
class FunnelFigures:
    counted: str
    """What is counted: sessions, users or attempts."""
    in_scope: int
    """Journeys in scope."""
    stages: list[StageFigures]
    whole_time: Quartiles | None
    """From the first stage to the last."""
    small: bool


class FunnelParams(NoParams):
    spec: str = Field(description="A FunnelSpec, as JSON")


@measure_of("funnel", FunnelParams)
def measure(study: Study, scope: Scope, spec: str) -> FunnelFigures:
    """How many get from stage to stage, how long it takes, and where the others went.

    Raises `pydantic.ValidationError` for what is no funnel.
    """
    return told(study, scope, Asked.of(FunnelSpec.model_validate_json(spec).model_dump()))


def told(study: Study, scope: Scope, asked: Asked) -> FunnelFigures:
    """Ask every part, and count."""
    stages = asked.funnel.stages
    names = study.parts[0].places.names if study.parts else []
    telling = partial(_tell, asked=asked, unit=scope.unit, screens=len(names))
    parts = study.at_once(telling, *_matches(study, scope, asked))
    left = sum((part.left for part in parts), np.zeros((len(stages), len(names) + 2), "i8"))
    took = [
        quartiles(np.concatenate(times) / 1000)
        for times in zip(*(part.took for part in parts), strict=True)
    ] or [None] * len(stages)
    counted = "attempts" if asked.count == "attempts" else scope.unit
    counted = "users" if asked.funnel.first_ever else counted
    figures = [_stage(left, asked, i, names, took[i]) for i in range(len(stages))]
    return FunnelFigures(
        counted,
        int(scope_mask(study, scope).sum()),
        figures,
        took[0],
        figures[0].count < SMALL,
    )


def _tell(
    labels: Labels,
    inside: NDArray[np.bool_],
    user: NDArray[np.int32],
    asked: Asked,
    unit: str,
    screens: int,
) -> Tally:
    if asked.of_users(unit):
        labels = _of_those(labels, inside, user, asked, unit)
    return tally(labels, inside, screens)


def _counted(study: Study, scope: Scope, asked: Asked) -> list[Labels]:
    """The matches of each part that count."""
    counting = partial(_of_those, asked=asked, unit=scope.unit)
    return study.at_once(counting, *_matches(study, scope, asked))


def _matches(
    study: Study, scope: Scope, asked: Asked
) -> tuple[list[Labels], list[NDArray[np.bool_]], list[NDArray[np.int32]]]:
    """The matches of each part, in which of its journeys they are looked for, and whose these are.

    What a journey has does not hang on others, so those of a group are taken from those of all,
    which are kept; but for a user's first ever, which is one of some."""
    whole = scope if asked.funnel.first_ever else replace(scope, part=None)
    every: list[Labels] = study.labels.of(
        (whole, repr(asked)), lambda: each_inside(study, whole, partial(_label, asked=asked))
    )
    return every, study.pieces(scope_mask(study, scope)), study.pieces(study.index.user)


def _of_those(
    labels: Labels, inside: NDArray[np.bool_], user: NDArray[np.int32], asked: Asked, unit: str
) -> Labels:
    """The matches of journeys inside that count: of users each one's best."""
    labels = labels.take(np.flatnonzero(inside[labels.journey]))
    return by_user(labels, user) if asked.of_users(unit) else labels


def _label(steps: Steps, inside: NDArray[np.bool_], asked: Asked) -> Labels:
    return label(steps, asked.funnel, inside, "attempt" if asked.count == "attempts" else "journey")


def _stage(
    left: NDArray[np.int64], asked: Asked, i: int, names: Sequence[str], took: Quartiles | None
) -> StageFigures:
    stages, there = asked.funnel.stages, left.sum(1)[::-1].cumsum()[::-1]
    first, before, own = (int(there[k]) for k in (0, max(i - 1, 0), i))
    name = f"at least {i + 1} of them" if asked.funnel.order == "any" else stages[i].name
    losses = _losses(left[i], i, own, names) if i + 1 < len(stages) else []
    cell = f"stage.{i}"
    return StageFigures(
        cell, name, own, share(own, first), share(own, before), took if i else None, losses
    )


def _losses(left: NDArray[np.int64], stage: int, total: int, names: Sequence[str]) -> list[Loss]:
    """Where those went that reached this stage and no further, most first."""
    ways: list[tuple[Literal["ended", "back", "to"], str, int]] = [
        ("ended", "", int(left[ENDED])),
        ("back", "", int(left[BACK])),
    ]
    on = left[TO:]
    ways += [("to", names[code], int(on[code])) for code in np.flatnonzero(on).tolist()]
    ways.sort(key=lambda way: (-way[2], way[1]))
    return [
        Loss(_cell(stage, way, screen), way, screen, share(count, total))
        for way, screen, count in ways
        if count
    ]


def _cell(stage: int, way: str, screen: str) -> str:
    return f"lost.{stage}.{way}" + (f".{screen}" if screen else "")


@evidence_of("funnel")
def evidence(study: Study, scope: Scope, figure: str) -> NDArray[np.bool_]:
    """The journeys in which a cell's matches begin; raises `KeyError` for one that there is not.

    Cells: `stage.I` (got there), `lost.I` (and no further), `lost.I.ended`, `lost.I.back`,
    `lost.I.to.SCREEN`. With attempts, a journey can hold several.
    """
    document = document_of(figure)
    asked = asked_of(document)
    of_cell = _cell_test(study, str(document["cell"]), len(asked.funnel.stages))
    found = [np.zeros(len(users), bool) for users in study.pieces(study.index.user)]
    for own, labels in zip(found, _counted(study, scope, asked), strict=True):
        own[labels.journey[of_cell(labels)]] = True
    return np.concatenate([np.empty(0, bool), *found])


def asked_of(document: dict[str, Any]) -> Asked:
    """The funnel of a figure's document; raises `KeyError` where it names none."""
    try:
        return Asked.of(document["funnel"])
    except (ValueError, TypeError, AttributeError, OverflowError):
        raise KeyError("funnel") from None


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
    labels = label(steps, asked.funnel, alone(steps, journey))
    first = int(steps.journeys.first_step[journey])
    return [
        (stage, int(step) - first + 1)
        for at, reached in zip(labels.steps, labels.reached, strict=True)
        for stage, step in enumerate(at[:reached])
        if step >= 0
    ]


@rates_of("funnel")
def rates(study: Study, scope: Scope, spec: str) -> Asking:
    """Of each stage those who got to the next, and how long that took."""
    written = FunnelSpec.model_validate_json(spec).model_dump()
    asked = Asked.of(written)
    stages = asked.funnel.stages
    counted = "attempts" if asked.count == "attempts" else scope.unit

    def name(cell: str) -> str:
        return document(funnel=written, cell=cell)

    def ask(steps: Steps, inside: NDArray[np.bool_]) -> Told:
        labels = _label(steps, inside, asked)
        labels = _of_those(labels, inside, steps.journeys.user, asked, scope.unit)
        found, times = [], list[Took]()
        for i in range(1, len(stages)):
            there, before = labels.reached > i, labels.reached >= i
            came = _named(asked, i)
            found.append(
                single(name(f"stage.{i}"), labels.journey[there], labels.journey[before],
                       f"went on to {came}", f"{counted} at {_named(asked, i - 1)}", -1)
            )  # fmt: skip
            took = labels.times[there, i] - labels.times[there, i - 1]
            times.append(
                single_time(name(f"stage.{i}"), labels.journey[there], took,
                            f"from {_named(asked, i - 1)} to {came}", counted, 1)
            )  # fmt: skip
        return Told(found, times)

    return ask


def _named(asked: Asked, stage: int) -> str:
    if asked.funnel.order == "any":
        return f"at least {stage + 1} of them"
    return asked.funnel.stages[stage].name or f"stage {stage + 1}"
