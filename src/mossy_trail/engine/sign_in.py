"""The sign-in question: figures, and the journeys behind each."""

from __future__ import annotations

from dataclasses import dataclass
from functools import reduce
from operator import add
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.measures import sign_in
from mossy_trail.core.model.log import EVENT, NONE
from mossy_trail.core.model.scope import Scope
from mossy_trail.core.model.steps import Steps
from mossy_trail.core.stats.intervals import SMALL, Quartiles, Share, quartiles, share
from mossy_trail.engine.rates import Asking, Told, Took, rates_of, single, single_time
from mossy_trail.engine.registry import evidence_of, measure_of
from mossy_trail.engine.scoped import each_inside, joined_inside
from mossy_trail.engine.study import Study


@dataclass(frozen=True)
class SignInStage:
    """One stage of the track. Times are in milliseconds, to this stage from the one before."""

    figure: str
    count: int
    of_first: Share
    of_previous: Share
    time_to: Quartiles | None


@dataclass(frozen=True)
class SignInLoss:
    """Where some of those went who got no further; `share` is of the stage they left from."""

    figure: str
    stage: str
    way: Literal[sign_in.WAYS]  # type: ignore[valid-type]
    share: Share


@dataclass(frozen=True)
class SignIn:
    """The sign-in figures of a scope, counted in its unit; of stages, those the log tells."""

    unit: str
    all: int
    restored: int
    stages: list[SignInStage]
    losses: list[SignInLoss]
    small: bool
    """Too few met sign-in for the shares to tell much."""
    has_screen: bool
    """The map names at least one sign-in screen."""
    told: bool
    """Some row of the log says how a sign-in came out; else nobody knows who got in."""


@measure_of("sign-in")
def measure(study: Study, scope: Scope) -> SignIn:
    """Met sign-in, tried, got in, and where the others went."""

    def ask(steps: Steps, inside: NDArray[np.bool_]) -> sign_in.Tally:
        labels = sign_in.label(steps)
        return sign_in.tally(labels, _counted(labels, inside, scope))

    total = reduce(add, each_inside(study, scope, ask), sign_in.EMPTY)
    count = {name: _count(total, name) for name in sign_in.figures()}
    times = {"tried": total.to_try, "in": total.to_in}
    outcomes = _told(study)
    stages = []
    told = [("met", "met"), *([("tried", "met"), ("in", "tried")] * outcomes)]
    for name, previous in told:
        n = count[name]
        to = quartiles(times[name] / 1000) if name in times else None
        shares = share(n, count["met"]), share(n, count[previous])
        stages.append(SignInStage(name, n, *shares, to))
    losses = [
        SignInLoss(figure, stage, way, share(count[figure], count[stage]))
        for stage in (("met", "tried") if outcomes else ())
        for way in sign_in.WAYS[:-1]
        for figure in [f"lost_{stage}.{way}"]
        if count[figure]
    ]
    losses.sort(key=lambda loss: (loss.stage, -loss.share.count))
    small = count["met"] < SMALL
    has_screen = any(screen.role == "sign_in" for screen in study.app_map.screens)
    counted = count["all"], count["restored"]
    return SignIn(scope.unit, *counted, stages, losses, small, has_screen, outcomes)


def _told(study: Study) -> bool:
    """Whether the log, whatever is in scope, tells tries, and how they came out.

    Without that nobody knows who tried, nor who of the others left for good.
    """

    def ask(steps: Steps) -> bool:
        outcome = steps.log.columns["outcome"][steps.log.columns["event"] == EVENT["sign_in"]]
        return bool((outcome != NONE).any())

    if "sign-in told" not in study.known:
        study.known["sign-in told"] = any(study.each(ask))
    return bool(study.known["sign-in told"])


@evidence_of("sign-in")
def evidence(study: Study, scope: Scope, figure: str) -> NDArray[np.bool_]:
    """The journeys that a figure counts, as a mask over the study's index.

    By users, each stands for the journey in which the user got furthest. Raises `KeyError` for a
    figure that there is not.
    """
    counted = sign_in.figure_labels(figure)

    def ask(steps: Steps, inside: NDArray[np.bool_]) -> NDArray[np.bool_]:
        labels = sign_in.label(steps)
        return _counted(labels, inside, scope) & counted[labels.label]

    return joined_inside(study, scope, ask)


def _counted(labels: sign_in.Labels, inside: NDArray[np.bool_], scope: Scope) -> NDArray[np.bool_]:
    return sign_in.by_user(labels, inside) if scope.unit == "users" else inside


def _count(total: sign_in.Tally, figure: str) -> int:
    return int(total.counts[sign_in.figure_labels(figure)].sum())


WAY_WORDS = {
    "ended": "left the app at sign-in without a try",
    "back": "went back from sign-in without a try",
    "recovery": "went for a forgotten code without a try",
    "sign_up": "went to sign up without a try",
    "elsewhere": "went elsewhere from sign-in without a try",
}


@rates_of("sign-in")
def rates(study: Study, scope: Scope) -> Asking:
    """Shares of those who met sign-in and of those who tried, and how long it took them."""
    outcomes = _told(study)

    def ask(steps: Steps, inside: NDArray[np.bool_]) -> Told:
        labels = sign_in.label(steps)
        chosen = _counted(labels, inside, scope)

        def of(figure: str) -> NDArray[np.int64]:
            return np.flatnonzero(chosen & sign_in.figure_labels(figure)[labels.label])

        def took(figure: str, micros: NDArray[np.int64], says: str, who: str) -> Took:
            own = np.flatnonzero(chosen & (micros >= 0))
            return single_time(figure, own, micros[own], says, who, 1)

        met, tried, got_in = of("met"), of("tried"), of("in")
        found = [single("met", met, of("all"), "met sign-in", "sessions")]
        if not outcomes:
            return Told(found, [])
        found += [
            single("tried", tried, met, "tried to sign in", "those who met sign-in", -1),
            single("in", got_in, met, "got in", "those who met sign-in", -1),
            single("lost_tried", of("lost_tried"), tried, "tried and did not get in",
                   "those who tried", 1),
            *(
                single(f"lost_met.{way}", of(f"lost_met.{way}"), met, says,
                       "those who met sign-in", 1 if way == "ended" else 0)
                for way, says in WAY_WORDS.items()
            ),
        ]  # fmt: skip
        return Told(
            found,
            [
                took("tried", labels.to_try, "from sign-in to the first try", "those who tried"),
                took("in", labels.to_in, "from the first try to getting in", "those who got in"),
            ],
        )

    return ask
