"""Start-up: figures of the app's starts, and the journeys that hold those of each."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from functools import partial
from itertools import pairwise
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from mossy_trail.core.measures.startup import KINDS, LANDINGS, Labels, label
from mossy_trail.core.model.scope import Scope
from mossy_trail.core.model.steps import Steps
from mossy_trail.core.stats.intervals import SMALL, Share, share
from mossy_trail.engine.rates import Asking, Told, document, rates_of, single, single_time
from mossy_trail.engine.registry import NoParams, document_of, evidence_of, measure_of
from mossy_trail.engine.scoped import each_labelled, joined_labelled
from mossy_trail.engine.study import Study

Mask = NDArray[np.bool_]
SLOW = 2000
"""Milliseconds from which a start counts as slow, if nothing else is said."""
EDGES = np.array([*np.geomspace(100, 60_000, 36).round(-1)])
"""Where the bins of times begin and end, in milliseconds; the first and the last one are open."""
_COLD, _LEFT = KINDS.index("cold"), LANDINGS.index("left")


@dataclass(frozen=True)
class Bin:
    """Cold starts that took from `low` to `high` milliseconds to land, or left by then."""

    cell: str
    low: float
    high: float | None
    landed: int
    left: int


@dataclass(frozen=True)
class Quantiles:
    """Of the times of cold starts that landed, in milliseconds."""

    median: float
    p75: float
    p90: float
    p95: float


@dataclass(frozen=True)
class Speed:
    """Cold starts that landed slowly, or not: how many of them were the end of their journey."""

    cell: str
    starts: Share
    ended: Share


@dataclass(frozen=True)
class StartFigures:
    slow_from: int
    in_scope: int
    has_splash: bool
    """The map names a splash; without one, nobody can have left on it."""
    starts: int
    kinds: dict[str, int]
    by_link: Share
    left: Share
    landings: dict[str, Share]
    times: Quantiles | None
    slow: Speed
    quick: Speed
    small: bool
    bins: list[Bin]


class StartParams(NoParams):
    slow: int = Field(SLOW, ge=1, le=600_000, description="Milliseconds from which one is slow")


@measure_of("start-up", StartParams)
def measure(study: Study, scope: Scope, slow: int = SLOW) -> StartFigures:
    """Starts by kind, how long they take, where they land, and who left before."""
    asked = each_labelled(study, scope, "start-up", label, partial(_ask, slow=slow))
    counts: Counter[str] = sum((told.counts for told in asked), Counter())

    def count(cell: str) -> int:
        return counts[cell]

    total, cold = count("all"), count("cold")
    landed = cold - count("left")
    times = np.concatenate([told.times for told in asked] or [np.empty(0)])
    quantiles = np.percentile(times, [50, 75, 90, 95]).tolist() if len(times) else None

    def speed(cell: str) -> Speed:
        own = count(cell)
        return Speed(cell, share(own, landed), share(count(f"{cell}.ended"), own))

    return StartFigures(
        slow,
        sum(told.in_scope for told in asked),
        any(screen.role == "splash" for screen in study.app_map.screens),
        total,
        {kind: count(kind) for kind in KINDS},
        share(count("link"), total),
        share(count("left"), cold),
        {word: share(count(f"land.{word}"), total) for word in LANDINGS[1:]},
        Quantiles(*quantiles) if quantiles else None,
        speed("slow"),
        speed("quick"),
        cold < SMALL,
        _bins(counts),
    )


class _Told(NamedTuple):
    """What a part tells: journeys in scope, starts by cell, and how long cold ones took to land,
    in milliseconds."""

    in_scope: int
    counts: Counter[str]
    times: NDArray[np.float64]


_CELLS = (
    *("all", *KINDS, "link", "left", "slow", "quick", "slow.ended", "quick.ended"),
    *(f"land.{word}" for word in LANDINGS[1:]),
)


def _ask(steps: Steps, inside: Mask, labels: Labels, slow: int) -> _Told:
    counts = Counter({cell: int(_of_cell(labels, cell, slow).sum()) for cell in _CELLS})
    cold, landed = labels.kind == _COLD, labels.landing != _LEFT
    for prefix, own in (("bin", cold), ("bin_left", cold & ~landed)):
        filled = np.bincount(_bin_of(labels.took[own]))
        counts.update({f"{prefix}.{i}": int(n) for i, n in enumerate(filled)})
    return _Told(int(inside.sum()), counts, labels.took[cold & landed] / 1000)


def _bins(counts: Counter[str]) -> list[Bin]:
    bins = []
    edges = [0.0, *EDGES.tolist(), None]
    for i, (low, high) in enumerate(pairwise(edges)):
        cell = f"bin.{i}"
        left = counts[f"bin_left.{i}"]
        bins.append(Bin(cell, low, high, counts[cell] - left, left))
    while bins and not bins[-1].landed + bins[-1].left:
        bins.pop()
    return bins


def _of_cell(labels: Labels, cell: str, slow_from: int) -> Mask:
    """Which starts a cell counts."""
    cold, landed = labels.kind == _COLD, labels.landing != _LEFT
    kind, _, rest = cell.partition(".")
    if cell == "all":
        return np.ones(len(cold), bool)
    if cell in KINDS:
        return np.asarray(labels.kind == KINDS.index(cell))
    if cell == "link":
        return labels.by_link
    if cell == "left":
        return np.asarray(cold & ~landed)
    if kind == "land":
        return np.asarray(labels.landing == LANDINGS.index(rest))
    if kind in ("slow", "quick"):
        slow = labels.took >= slow_from * 1000
        found = cold & landed & (slow if kind == "slow" else ~slow)
        return np.asarray(found & labels.ended if rest else found)
    return np.asarray(cold & (_bin_of(labels.took) == int(rest)))


def _bin_of(took: NDArray[np.int64]) -> NDArray[np.int64]:
    """The number of the bin that each time falls into."""
    return np.searchsorted(EDGES * 1000, took, "right")


def _is_bin(cell: str) -> bool:
    kind, _, number = cell.partition(".")
    return kind == "bin" and number.isdecimal() and int(number) <= len(EDGES)


@evidence_of("start-up")
def evidence(study: Study, scope: Scope, figure: str) -> Mask:
    """The journeys that hold the starts of a cell; raises `KeyError` for one that there is not.

    A figure is JSON: `cell`, and where it matters `slow` (milliseconds).
    """
    asked = document_of(figure)
    try:
        cell, slow = str(asked["cell"]), int(asked.get("slow", SLOW))
    except (ValueError, TypeError, OverflowError):
        raise KeyError(figure) from None
    if cell not in _CELLS and not _is_bin(cell):
        raise KeyError(cell)

    def ask(steps: Steps, inside: Mask, labels: Labels) -> Mask:
        found = np.zeros(len(inside), bool)
        found[labels.journey[_of_cell(labels, cell, slow)]] = True
        return found

    return joined_labelled(study, scope, "start-up", label, ask)


LANDED_WORDS = {
    "onboarding": "onboarding",
    "sign_in": "sign-in",
    "inside": "a tab",
    "link_target": "what their link names",
    "not_found": "“not found”",
    "elsewhere": "another screen",
}


@rates_of("start-up")
def rates(study: Study, scope: Scope, slow: int = SLOW) -> Asking:
    """Shares of starts, and how long cold ones take."""
    has_splash = any(screen.role == "splash" for screen in study.app_map.screens)

    def ask(steps: Steps, inside: Mask) -> Told:
        labels = label(steps, inside)

        def of(cell: str) -> NDArray[np.int32]:
            return labels.journey[_of_cell(labels, cell, slow)]

        def name(cell: str) -> str:
            return document(cell=cell, slow=slow)

        landed = (labels.kind == _COLD) & (labels.landing != _LEFT)
        every, cold, limit = of("all"), of("cold"), f"{slow / 1000:g} s"
        found = [
            single(name("link"), of("link"), every, "were by a link", "starts"),
            single(
                name("slow"), of("slow"), labels.journey[landed],
                f"took {limit} or longer", "cold starts that landed", 1,
            ),
            *(
                single(
                    name(f"land.{word}"), of(f"land.{word}"), every,
                    f"landed on {says}", "starts", 1 if word == "not_found" else 0,
                )
                for word, says in LANDED_WORDS.items()
            ),
            *(
                single(
                    name(f"{kind}.ended"), of(f"{kind}.ended"), of(kind),
                    "ended on their first screen", f"{kind} starts", 1,
                )
                for kind in ("slow", "quick")
            ),
        ]  # fmt: skip
        if has_splash:
            left = single(name("left"), of("left"), cold, "were left before a screen came up",
                          "cold starts", 1, norm=0.05)  # fmt: skip
            found.insert(0, left)
        took = single_time(
            name("cold"), labels.journey[landed], labels.took[landed],
            "from the start to the first screen", "cold starts that landed", 1,
        )  # fmt: skip
        return Told(found, [took])

    return ask
