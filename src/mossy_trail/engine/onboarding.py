"""Onboarding: what became of those who began, and each screen of the chain by itself."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.measures.cells import Grid, cells
from mossy_trail.core.measures.onboarding import ENDS, WAYS, Labels, label
from mossy_trail.core.model.scope import Scope
from mossy_trail.core.model.steps import Steps
from mossy_trail.core.stats.intervals import Quartiles, Share, quartiles, share
from mossy_trail.engine.rates import Asking, Told, Took, Worse, rates_of, single, single_time
from mossy_trail.engine.registry import evidence_of, measure_of
from mossy_trail.engine.scoped import each_labelled, joined_labelled
from mossy_trail.engine.study import Study

Mask = NDArray[np.bool_]


@dataclass(frozen=True)
class ChainScreen:
    """Sessions that were on a screen of the chain, and in how many of them it was left by each way;
    `dwell` in milliseconds, of each visit."""

    cell: str
    screen: str
    sessions: int
    ways: dict[str, Share]
    dwell: Quartiles | None


@dataclass(frozen=True)
class OnboardingFigures:
    """Users by what became of them, and how long it took those who finished later, in ms."""

    begun: int
    ends: dict[str, Share]
    later_took: Quartiles | None
    screens: list[ChainScreen]


@measure_of("onboarding")
def measure(study: Study, scope: Scope) -> OnboardingFigures:
    """What became of those who began onboarding, and its screens one by one."""
    chain = study.app_map.funnels.get("onboarding", ())
    found = each_labelled(study, scope, "onboarding", _labelling(chain), partial(_ask, chain=chain))
    labels = [own for own, _ in found]
    size = (len(chain), len(WAYS) + 1)
    sessions = sum((counts for _, counts in found), np.zeros(size, "i8"))
    ends = np.concatenate([np.empty(0, "i8"), *(one.end for one in labels)])
    took = np.concatenate([np.empty(0, "i8"), *(one.took for one in labels)])
    begun = len(ends)
    later = took[ends == ENDS.index("later")] / 1000
    counts = {word: int((ends == i).sum()) for i, word in enumerate(ENDS)}
    return OnboardingFigures(
        begun,
        {word: share(n, begun) for word, n in counts.items()},
        quartiles(later),
        [_screen(labels, sessions[i], i, screen) for i, screen in enumerate(chain)],
    )


def _labelling(chain: Sequence[str]) -> Callable[[Steps, Mask], Labels]:
    return lambda steps, inside: label(steps, chain, inside)


def _ask(
    steps: Steps, inside: Mask, labels: Labels, chain: Sequence[str]
) -> tuple[Labels, NDArray[np.int64]]:
    """The labels, and in how many sessions each screen was left by each way; the last: at all."""
    user = steps.journeys.user
    ways = cells(Grid(chain, WAYS), labels.screen * len(WAYS) + labels.way, labels.journey)
    left, seen = ways.tally(user), cells(Grid(chain), labels.screen, labels.journey).tally(user)
    counts = np.zeros((len(chain), len(WAYS) + 1), "i8")
    counts[left.number // len(WAYS), left.number % len(WAYS)] = left.journeys
    counts[seen.number, -1] = seen.journeys
    return labels, counts


def _screen(
    labels: Sequence[Labels], sessions: NDArray[np.int64], place: int, screen: str
) -> ChainScreen:
    total = int(sessions[-1])
    dwell = np.concatenate([np.empty(0, "i8"), *(one.dwell[_of(one, place, "")] for one in labels)])
    return ChainScreen(
        f"screen.{place}",
        screen,
        total,
        {way: share(int(sessions[i]), total) for i, way in enumerate(WAYS)},
        quartiles(dwell[dwell >= 0] / 1000),
    )


def _of(labels: Labels, place: int, way: str) -> Mask:
    found = labels.screen == place
    return np.asarray(found & (labels.way == WAYS.index(way)) if way else found)


@evidence_of("onboarding")
def evidence(study: Study, scope: Scope, figure: str) -> Mask:
    """The journeys behind `screen.I`, `screen.I.WAY`, or `user.END`: of a user, the one that began
    it. Raises `KeyError` for a figure that there is not."""
    chain = study.app_map.funnels.get("onboarding", ())
    kind, _, rest = figure.partition(".")
    number, _, way = rest.partition(".")
    of_screen = kind == "screen" and number.isdecimal() and int(number) < len(chain)
    if not (of_screen and way in ("", *WAYS)) and not (kind == "user" and rest in ENDS):
        raise KeyError(figure)

    def ask(steps: Steps, inside: Mask, labels: Labels) -> Mask:
        found = np.zeros(len(inside), bool)
        if kind == "user":
            found[labels.begun[labels.end == ENDS.index(rest)]] = True
        else:
            found[labels.journey[_of(labels, int(number), way)]] = True
        return found

    return joined_labelled(study, scope, "onboarding", _labelling(chain), ask)


END_WORDS = {
    "finished": "finished onboarding in their first go",
    "later": "finished onboarding in a later session",
    "skipped": "got inside without finishing onboarding",
    "never": "neither finished onboarding nor got inside",
}
WAY_WORDS = {
    "on": "went on from {}",
    "back": "went back from {}",
    "skipped": "skipped the rest of onboarding on {}",
    "ended": "left the app on {}",
    "elsewhere": "went elsewhere from {}",
}
_WORSE: dict[str, Worse] = {"finished": -1, "never": 1, "on": -1, "ended": 1}


@rates_of("onboarding")
def rates(study: Study, scope: Scope) -> Asking:
    """Shares of users who began, of sessions on each screen, and how long visits of each are."""
    chain = study.app_map.funnels.get("onboarding", ())

    def ask(steps: Steps, inside: Mask) -> Told:
        labels = label(steps, chain, inside)
        found = [
            single(f"user.{end}", labels.begun[labels.end == i], labels.begun, says,
                   "users who began onboarding", _WORSE.get(end, 0))
            for i, (end, says) in enumerate(END_WORDS.items())
        ]  # fmt: skip
        times: list[Took] = []
        for place, screen in enumerate(chain):
            own = labels.journey[_of(labels, place, "")]
            found += [
                single(f"screen.{place}.{way}", labels.journey[_of(labels, place, way)], own,
                       says.format(screen), f"sessions on {screen}", _WORSE.get(way, 0), "journeys",
                       like="screens of onboarding" if way == "ended" else "")
                for way, says in WAY_WORDS.items()
            ]  # fmt: skip
            at = _of(labels, place, "") & (labels.dwell >= 0)
            times.append(
                single_time(f"screen.{place}", labels.journey[at], labels.dwell[at],
                            f"on {screen}", "visits")
            )  # fmt: skip
        return Told(found, times)

    return ask
