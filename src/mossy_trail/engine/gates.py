"""Gates and tries at sign-in: what sent people there, how often they tried, what they reached."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.measures.gates import CAUSES, OUTCOMES, Labels, label
from mossy_trail.core.model.scope import Scope
from mossy_trail.core.model.steps import Steps
from mossy_trail.core.stats.intervals import Share, share
from mossy_trail.engine.rates import Asking, Told, Worse, rates_of, single
from mossy_trail.engine.registry import evidence_of, measure_of
from mossy_trail.engine.scoped import each_labelled, joined_labelled
from mossy_trail.engine.study import Study

Mask = NDArray[np.bool_]


@dataclass(frozen=True)
class Cause:
    """Gates of one cause, and what came of them."""

    cause: Literal[CAUSES]  # type: ignore[valid-type]
    gates: int
    outcomes: dict[str, Share]


@dataclass(frozen=True)
class GateFigures:
    """`tries` are those that came out; `needed` counts sessions that got in by how many tries."""

    causes: list[Cause]
    tries: int
    failed: Share
    detours: dict[str, Share]
    """Sessions with a detour by recovery or sign-up that got in after it, of all with one."""
    needed: list[int]
    """Sessions that got in at the first try, the second, and so on; the last one: that or later."""


MOST_TRIES = 5
DETOURS = ("recovery", "sign_up")


@measure_of("gates")
def measure(study: Study, scope: Scope) -> GateFigures:
    """What sent people to sign in, how often they tried, and what they reached."""
    parts = each_labelled(study, scope, "gates", label, lambda steps, inside, labels: labels)
    cause = np.concatenate([np.empty(0, "i1"), *(one.cause for one in parts)])
    outcome = np.concatenate([np.empty(0, "i1"), *(one.outcome for one in parts)])
    failed = sum(int(one.failed.sum()) for one in parts)
    tries = failed + sum(int(one.ok.sum()) for one in parts)
    causes = []
    for code, word in enumerate(CAUSES):
        own = outcome[cause == code]
        ends = {end: share(int((own == i).sum()), len(own)) for i, end in enumerate(OUTCOMES)}
        causes.append(Cause(word, len(own), ends))
    needed = [sum(int(_needed(one, n).sum()) for one in parts) for n in range(1, MOST_TRIES + 1)]
    detours = {}
    for kind in DETOURS:
        made = np.concatenate([np.empty(0, "i1"), *(getattr(one, kind) for one in parts)])
        detours[kind] = share(int((made == 2).sum()), int((made > 0).sum()))
    return GateFigures(causes, tries, share(failed, tries), detours, needed)


def _needed(labels: Labels, tries: int) -> Mask:
    return np.asarray(np.minimum(labels.needed, MOST_TRIES) == tries)


@evidence_of("gates")
def evidence(study: Study, scope: Scope, figure: str) -> Mask:
    """The journeys behind `CAUSE`, `CAUSE.OUTCOME`, `failed`, `tries`, `needed.N`, or a detour
    (`recovery`, `recovery.in`); raises `KeyError` for a figure that there is not."""
    kind, _, rest = figure.partition(".")
    of_cause = kind in CAUSES and rest in ("", *OUTCOMES)
    of_tries = kind == "needed" and rest.isdecimal() and 1 <= int(rest) <= MOST_TRIES
    of_detour = kind in DETOURS and rest in ("", "in")
    if not (of_cause or of_tries or of_detour or figure in ("failed", "tries")):
        raise KeyError(figure)

    def ask(steps: Steps, inside: Mask, labels: Labels) -> Mask:
        if of_tries:
            return _needed(labels, int(rest))
        if of_detour:
            return np.asarray(getattr(labels, kind) >= (2 if rest else 1))
        if not of_cause:
            tried = labels.failed if kind == "failed" else labels.failed + labels.ok
            return np.asarray(tried > 0)
        chosen = labels.cause == CAUSES.index(kind)
        if rest:
            chosen &= labels.outcome == OUTCOMES.index(rest)
        found = np.zeros(len(inside), bool)
        found[labels.journey[chosen]] = True
        return found

    return joined_labelled(study, scope, "gates", label, ask)


CAUSE_WORDS = {
    "asked": "gates on the way to a screen",
    "link": "gates that a link led to",
    "expired": "gates of sign-ins that had run out",
}
OUTCOME_WORDS = {
    "lost": "did not get in",
    "in": "got in, but not where they wanted",
    "reached": "reached what they wanted",
}
DETOUR_WORDS = {"recovery": "the forgotten code", "sign_up": "signing up"}


@rates_of("gates")
def rates(study: Study, scope: Scope) -> Asking:
    """Shares of gates by cause, of tries, and of detours."""

    def ask(steps: Steps, inside: Mask) -> Told:
        labels, journeys = label(steps, inside), np.arange(len(inside))
        failed = np.repeat(journeys, labels.failed)
        tries = np.repeat(journeys, labels.failed + labels.ok)
        found = [single("failed", failed, tries, "failed", "tries to sign in", 1, norm=0.1)]
        for i, (cause, of) in enumerate(CAUSE_WORDS.items()):
            own = labels.journey[labels.cause == i]
            for k, (end, says) in enumerate(OUTCOME_WORDS.items()):
                told = labels.journey[(labels.cause == i) & (labels.outcome == k)]
                worse: Worse = 1 if end == "lost" else -1 if end == "reached" else 0
                found.append(single(f"{cause}.{end}", told, own, says, of, worse))
        for kind, words in DETOUR_WORDS.items():
            made = getattr(labels, kind)
            found.append(
                single(
                    f"{kind}.in", np.flatnonzero(made == 2), np.flatnonzero(made > 0),
                    "got in after it", f"detours by {words}", -1,
                )
            )  # fmt: skip
        return Told(found, [])

    return ask
