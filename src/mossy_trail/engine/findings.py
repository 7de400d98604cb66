"""What stands out in a log: every measure asked, and what is beyond chance put in words.

What is looked at is counted, and chance is told for all of it together; what counts the same
journeys is told once, by the words that say most of where it is.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from math import log10
from typing import NamedTuple

import numpy as np

from mossy_trail.core.ahead import ahead
from mossy_trail.core.measures.moments import Days
from mossy_trail.core.model.scope import Scope
from mossy_trail.core.stats.clustered import adjusted
from mossy_trail.engine import standouts
from mossy_trail.engine.compare import CHANCE, everything
from mossy_trail.engine.rates import Asked, Shares, Times, counted
from mossy_trail.engine.standouts import Candidate, Finding, Journeys
from mossy_trail.engine.study import Study

MOST = 40
"""Findings that are told, at the most."""
_INSIDE, _ALIKE = 0.8, 0.3
"""A finding is told with another from so much of its journeys on, or of the journeys of both."""
_MOST_OF = 0.7
"""Of a finding's users the share from which on another one that says more takes its place."""
_SUREST = 12.0
"""Beyond so many zeros, chance is as good as none."""


@dataclass(frozen=True)
class Findings:
    """What stands out, among `looked_at` comparisons; `asked` of `to_ask` questions have been put
    so far, and until all have, a finding may go and another come before it."""

    looked_at: int
    found: list[Finding]
    asked: int
    to_ask: int


def findings(study: Study, scope: Scope, kept: Sequence[Asked] = ()) -> Findings:
    """What stands out in scope: what touches most users most surely comes first."""
    *_, found = as_they_come(study, scope, kept)
    return found


def as_they_come(study: Study, scope: Scope, kept: Sequence[Asked] = ()) -> Iterator[Findings]:
    """The same after each measure that has been asked; all of it at the last."""
    question = ("findings", scope, repr(kept))
    found: Findings | None = study.comparisons.get(question)
    if found:
        yield found
        return
    for found in _one_by_one(study, scope, everything(study, kept)):
        yield found
    study.comparisons.of(question, lambda: found)


def _one_by_one(study: Study, scope: Scope, measures: Sequence[Asked]) -> Iterator[Findings]:
    asked = standouts.Asked.of(study, scope)
    splashes = {screen.name for screen in study.app_map.screens if screen.role == "splash"}
    told_elsewhere = {("drop-offs", name) for name in splashes}  # start-up tells who left there
    candidates: list[Candidate] = []
    ways, days = asked.ways, Days(asked.day, len(asked.days))

    def each() -> Iterator[tuple[int, Shares | Times]]:
        for put, measure in enumerate(measures):
            for told in counted(study, scope, [measure], ways, days):
                yield put, told

    def so_far(put: int, most: int | None = MOST) -> Findings:
        sure = [
            one
            for one in _sure(candidates)
            if (one.finding.measure, one.subject) not in told_elsewhere
        ]
        found = _told_once(sorted(sure, key=_rank, reverse=True)[:most])[:MOST]
        return Findings(len(candidates), found, put, len(measures) + 1)

    done = 0
    for put, told in ahead(each()):
        if put > done:
            yield so_far(put)
            done = put
        if isinstance(told, Times):
            candidates += standouts.of_times(told, asked)
        else:
            candidates += standouts.of_shares(told, asked)
    yield so_far(len(measures))
    candidates += standouts.of_ends(study, scope)
    yield so_far(len(measures) + 1, None)


class _Sure(NamedTuple):
    """A candidate that is beyond chance."""

    finding: Finding
    subject: str
    by: str
    touching: Journeys


def _sure(candidates: Sequence[Candidate]) -> list[_Sure]:
    """Those worth telling that are beyond chance, as some of all that were looked at."""
    q = adjusted(np.array([one.p for one in candidates])) if candidates else ()
    return [
        _Sure(replace(one.finding, q=float(rate)), one.subject, one.by, one.touching)
        for one, rate in zip(candidates, q, strict=True)
        if rate <= CHANCE and one.worth and one.finding
    ]


def _rank(one: _Sure) -> float:
    """Users touched, times how far beyond chance."""
    return one.finding.touched * min(-log10(max(one.finding.q, 1e-300)), _SUREST)


class _Told(NamedTuple):
    """A finding with those that are told under it."""

    main: _Sure
    under: list[_Sure]

    @property
    def rank(self) -> float:
        return max(_rank(one) for one in (self.main, *self.under))

    @property
    def finding(self) -> Finding:
        also = [one.finding.sentence for one in self.under]
        touched = max(one.finding.touched for one in (self.main, *self.under))
        return replace(self.main.finding, also=also, touched=touched)


def _told_once(best: Sequence[_Sure]) -> list[Finding]:
    told: list[_Told] = []
    for one in best:
        place = next((i for i, other in enumerate(told) if _same(one, other)), None)
        if place is None:
            told.append(_Told(one, []))
            continue
        main, under = told[place]
        if _says_more(one, main):
            told[place] = _Told(one, [main, *under])
        else:
            under.append(one)
    return [one.finding for one in sorted(told, key=lambda one: -one.rank)]


def _same(one: _Sure, other: _Told) -> bool:
    """Whether it counts mostly journeys of the other, tells the same of a group, or of another
    value of the same property on the same screen."""
    for told in (other.main, *other.under):
        own, known = one.finding, told.finding
        whole = not own.figure.startswith("[") and own.measure == known.measure
        if whole and own.segment and own.segment == known.segment:
            return True
        if one.subject and one.subject == told.subject and one.by and one.by == told.by:
            return True
        if one.touching.many and _mostly_the_same(one.touching, told.touching):
            return True
    return False


def _mostly_the_same(one: Journeys, other: Journeys) -> bool:
    """Whether the first are mostly some of the others, or both are much alike."""

    def enough(both: int) -> bool:
        either = one.many + other.many - both
        return both >= _INSIDE * one.many or both >= _ALIKE * either

    return enough(min(one.many, other.many)) and enough(one.shared(other))


def _says_more(one: _Sure, other: _Sure) -> bool:
    """Whether it tells of a smaller group, and yet of mostly the same journeys."""
    both = one.touching.shared(other.touching)
    most = max(one.touching.many, other.touching.many)
    more = len(one.finding.segment) > len(other.finding.segment)
    return more and both >= _MOST_OF * most
