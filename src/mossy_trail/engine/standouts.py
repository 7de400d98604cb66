"""What could stand out: the ways in which a figure may be worse than it should be, and by chance.

- A *group* (a version, a platform, both, or the value of another property) against all others.
- A share against its *norm*, where there is no like to hold it against.
- A stage against the other stages of its *like*.
- Ends on a screen against those to be *expected* of where it stands.
- The days from one on against those before: a *change*.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray
from scipy.special import pdtrc

from mossy_trail.core.measures.moments import Moments, Ways, some_of
from mossy_trail.core.model.log import NONE
from mossy_trail.core.model.scope import Scope
from mossy_trail.core.model.steps import MOVE
from mossy_trail.core.stats.changes import best_split
from mossy_trail.core.stats.clustered import (
    Estimate,
    each_against_others,
    estimates,
    gaps,
    p_beyond,
)
from mossy_trail.core.stats.medians import median_of, middle
from mossy_trail.engine import dropoffs
from mossy_trail.engine.compare import Side, side_of, side_of_times
from mossy_trail.engine.rates import Figure, Shares, Timed, Times, sums_of
from mossy_trail.engine.scoped import groups_of, scope_mask
from mossy_trail.engine.study import Study

Mask = NDArray[np.bool_]
Kind = Literal["group", "norm", "like", "expected", "change"]
LEAST, MANY_TIMES = 0.02, 1.25
"""A share has to differ by so much, and by so many times, to be worth an analyst's time."""
MOST_GROUPS = 12
FEWEST_IN_SERIES = 200
"""Times that a figure is of, at the least, to be looked at for changes."""
_CLEAR = 0.01
"""What is likelier by chance is not looked at further; nor a change that so many random orders of
days have."""
_MOST_OF = 0.7
"""Groups that touch so much of the users that any does explain a figure as well."""


@dataclass(frozen=True)
class Finding:
    """`where` is the group that it is of, `segment` the same as a segment; empty for all.

    `beside` is what it is held against: other groups, the days before, or a norm (then `of` is 0).
    `touched` are users; `q` is the rate of false ones among all findings, if this is told as one.
    """

    kind: Kind
    key: str
    sentence: str
    measure: str
    name: str
    figure: str
    timed: bool
    where: str
    segment: str
    own: Side
    beside: Side
    touched: float
    q: float
    also: list[str]


class Journeys:
    """Some of the journeys, 64 of them in a number: they are counted many times."""

    def __init__(self, mask: Mask) -> None:
        packed = np.packbits(mask)
        self._bits = np.pad(packed, (0, -len(packed) % 8)).view("u8")
        self.many = int(np.bitwise_count(self._bits).sum())
        self._shared: dict[int, int] = {}

    def shared(self, other: Journeys) -> int:
        """How many are also among the others."""
        found = self._shared.get(id(other))
        if found is None:
            found = int(np.bitwise_count(self._bits & other._bits).sum())
            self._shared[id(other)] = other._shared[id(self)] = found
        return found


class Candidate(NamedTuple):
    """What may be a finding. `touching` are the journeys in which what is worse happened, none
    where it would not be worth telling; `subject` is the screen or tab that it is of, `by` what
    sorts its groups."""

    finding: Finding | None
    subject: str
    by: str
    p: float
    worth: bool
    touching: Journeys


class Sort(NamedTuple):
    """Groups of journeys in scope, −1 for none; what each is called, and its segment."""

    code: NDArray[np.int64]
    names: list[str]
    segments: list[str]
    by: str


def sorts_of(study: Study, scope: Scope) -> list[Sort]:
    """By each property that has few values, and by version and platform together.

    Without what the map says that tabs are shown by: who sees other tabs is not alike.
    """
    inside = scope_mask(study, scope)
    apart = {key for tab in study.app_map.tabs for key in tab.shown_to or ()}
    single: dict[str, Sort] = {}
    for name in _properties(study):
        groups = groups_of(study, scope, name)
        many = len(np.unique(groups.code[inside]))
        if name in apart or not 2 <= many <= MOST_GROUPS:
            continue
        segments = [json.dumps({"property": name, "values": [value]}) for value in groups.values]
        names = [f"{name} {value or 'not told'}" for value in groups.values]
        code = np.where(inside, groups.code, NONE).astype("i8")
        single[name] = Sort(code, names, segments, name)
    found = list(single.values())
    if {"version", "platform"} <= single.keys():
        found.append(_both(single["version"], single["platform"]))
    return found


def _properties(study: Study) -> list[str]:
    return sorted({name for text in study.terms["props"] for name in json.loads(text)})


def _both(version: Sort, platform: Sort) -> Sort:
    size = len(platform.names)
    code = np.where(version.code == NONE, NONE, version.code * size + platform.code)
    words = [name.removeprefix("platform ") for name in platform.names]
    names = [f"{a} on {b}" for a in version.names for b in words]
    pairs = [f'{{"all": [{a}, {b}]}}' for a in version.segments for b in platform.segments]
    return Sort(code, names, pairs, "version and platform")


class Asked(NamedTuple):
    """What is asked of all: the journeys in scope, their groups, and their days."""

    study: Study
    inside: Mask
    sorts: list[Sort]
    day: NDArray[np.int64]
    days: list[str]
    told_moves: bool
    """Some row tells a move; else a copy piled up may as well be a way back that was misread."""

    @classmethod
    def of(cls, study: Study, scope: Scope) -> Asked:
        inside, groups = scope_mask(study, scope), groups_of(study, scope, "", "day")
        code = groups.code.astype("i8")
        first, last = (code[inside].min(), code[inside].max()) if inside.any() else (0, -1)
        day = np.where(inside, code - first, NONE)
        return cls(
            study,
            inside,
            sorts_of(study, scope),
            day,
            groups.values[first : last + 1],
            _tells_moves(study),
        )

    @property
    def ways(self) -> Ways:
        """All as one, and each sort of groups."""
        whole = np.where(self.inside, 0, NONE)
        return Ways.among([(whole, 1), *((one.code, len(one.names)) for one in self.sorts)])


def _tells_moves(study: Study) -> bool:
    start = MOVE["start"]
    asked = study.each(lambda s: bool(((s.steps.move != start) & ~s.steps.inferred).any()))
    return any(asked)


def of_shares(told: Shares, asked: Asked) -> Iterator[Candidate]:
    """Shares against their norms and likes, their groups against each other, and their days."""
    clear, unclear = _worse_groups(told, asked)
    yield from map(_unclear, unclear)
    looked = [*_beyond_norms(told, asked), *_beyond_likes(told, asked), *clear]
    looked += _changed(told, asked)
    bad = _bad(told, [one.cell for one in looked if one.worth])
    yield from (one.touching(told.figures[one.cell].subject, bad) for one in looked)


def _beyond_norms(told: Shares, asked: Asked) -> Iterator[_Looked]:
    norms = np.array([1.0 if one.norm is None else one.norm for one in told.figures])
    shares, p = estimates(told.of[0]), p_beyond(told.of[0], norms)
    for cell, figure in enumerate(told.figures):
        untold = figure.measure == "loops" and not asked.told_moves
        if norms[cell] >= 1 or np.isnan(p[cell]) or untold:
            continue
        own = shares.at(cell, 0)
        sentence = f"{percent(own.share)} of {figure.of} {figure.says}."
        finding = _finding(
            "norm", figure, sentence, ("", ""), (side_of(own), _level(norms[cell])),
            (own.share - norms[cell]) * own.users,
        )  # fmt: skip
        worth = own.share > norms[cell]
        yield _looked(cell, finding, p[cell], worth, asked.inside)


def _worse_groups(told: Shares, asked: Asked) -> tuple[list[_Looked], list[float]]:
    judged = np.array([one.worse != 0 for one in told.figures])

    def tell(own: Estimate, rest: Estimate, cell: int, sort: Sort, slot: int) -> Finding | None:
        return _group(told.figures[cell], sort, slot, own, rest)

    clear, unclear = _clearest(asked.sorts, told.of[1:], judged, tell)
    looked = [
        _looked(cell, best.finding, best.p, True, best.sort.code == best.slot, best.sort.by)
        for cell, best in clear.items()
    ]
    return looked, unclear


Telling = Callable[[Estimate, Estimate, int, Sort, int], Finding | None]
"""What is found of a group against all others, if it is worth telling: given the shares of both,
the cell, and the sort and slot of the group."""


def _clearest(
    sorts: Sequence[Sort], of: Sequence[Moments], judged: Mask, tell: Telling
) -> tuple[dict[int, _Clear], list[float]]:
    """Of each cell that is judged the group that explains it best, of those that are worth telling
    and more than a single look would call chance; and how likely all others are."""
    clear: dict[int, list[_Clear]] = {}
    unclear: list[float] = []
    cells = np.flatnonzero(judged)
    for sort, sums in zip(sorts, of, strict=True):
        two = each_against_others(some_of(sums, cells))
        shares = estimates(two)
        likely = gaps(two, shares).p
        for place in np.flatnonzero(~np.isnan(likely)).tolist():
            slot, cell = place // len(cells), int(cells[place % len(cells)])
            p = float(likely[place])
            found = None
            if p < _CLEAR:
                found = tell(shares.at(place, 0), shares.at(place, 1), cell, sort, slot)
            if found is None:
                unclear.append(p)
            else:
                clear.setdefault(cell, []).append(_Clear(found, p, sort, slot))
    best = {cell: _explains(groups) for cell, groups in clear.items()}
    unclear += [one.p for cell, groups in clear.items() for one in groups if one is not best[cell]]
    return best, unclear


class _Clear(NamedTuple):
    """A group that is worse in a figure, by more than a single look would call chance."""

    finding: Finding
    p: float
    sort: Sort
    slot: int


def _explains(groups: Sequence[_Clear]) -> _Clear:
    """The group that explains a figure best: of those that touch about as many users as any, the
    one with the greatest difference."""
    most = max(one.finding.touched for one in groups)
    like = [one for one in groups if one.finding.touched >= _MOST_OF * most]
    return max(like, key=lambda one: abs(one.finding.own.value - one.finding.beside.value))


def _group(figure: Figure, sort: Sort, slot: int, own: Estimate, rest: Estimate) -> Finding | None:
    """A group that is worse than all others; None where that is not worth telling."""
    apart, name = own.share - rest.share, sort.names[slot]
    if apart * figure.worse <= 0 or not _matters(own, rest, figure.norm):
        return None
    sentence = (
        f"In {name}, {percent(own.share)} of {figure.of} {figure.says}; "
        f"elsewhere {percent(rest.share)}."
    )
    where, sides = (name, sort.segments[slot]), (side_of(own), side_of(rest))
    return _finding("group", figure, sentence, where, sides, abs(apart) * own.users)


def _matters(own: Estimate, rest: Estimate, norm: float | None) -> bool:
    low, high = sorted([own.share, rest.share])
    many_times = high >= MANY_TIMES * low or 1 - low >= MANY_TIMES * (1 - high)
    enough = high - low >= LEAST or (norm is not None and rest.share <= norm < own.share)
    return many_times and enough


def _changed(told: Shares, asked: Asked) -> Iterator[_Looked]:
    """Days from which on it is worse; what is looked at is every day between two."""
    for cell, figure in enumerate(told.figures):
        count, base = told.by_day[0][cell], told.by_day[1][cell]
        some = np.flatnonzero(base)
        if not figure.worse or base.sum() < FEWEST_IN_SERIES:
            continue
        split = best_split(count[some] / base[some], base[some].astype("f8"))
        if split is None or split.p > _CLEAR:
            continue
        turn = int(some[split.at])
        slot = np.where(asked.day >= turn, 0, np.where(asked.day >= 0, 1, NONE))
        of = sums_of(asked.study, told.series(cell), slot, 2)
        apart, shares = gaps(of).at(0), estimates(of)
        if apart is None or apart.p is None:
            continue
        own, before, day = shares.at(0, 0), shares.at(0, 1), asked.days[turn]
        sentence = (
            f"From {day} on, {percent(own.share)} of {figure.of} {figure.says}; "
            f"before, {percent(before.share)}."
        )
        where, sides = (
            (f"from {day} on", json.dumps({"since": day})),
            (side_of(own), side_of(before)),
        )
        touched = abs(apart.difference) * own.users
        finding = _finding("change", figure, sentence, where, sides, touched)
        worth = apart.difference * figure.worse > 0 and _matters(own, before, figure.norm)
        p = min(apart.p * len(some), 1.0)
        yield _looked(cell, finding, p, worth, slot == 0)


def of_times(told: Times, asked: Asked) -> Iterator[Candidate]:
    """Groups that take longer than all others, by half of them."""
    judged = np.array([one.figure.worse != 0 for one in told.each])

    def tell(own: Estimate, rest: Estimate, cell: int, sort: Sort, slot: int) -> Finding | None:
        return _slow_group(told.each[cell], sort, slot, own.share - rest.share)

    clear, unclear = _clearest(asked.sorts, told.of[1:], judged, tell)
    yield from map(_unclear, unclear)
    for cell, best in clear.items():
        value, at = told.each[cell].value, told.each[cell].at
        slow = (value >= best.finding.beside.value) & (best.sort.code[at] == best.slot)
        touching = np.zeros(len(asked.inside), bool)
        touching[at[slow]] = True
        yield Candidate(best.finding, "", best.sort.by, best.p, True, Journeys(touching))


def _slow_group(told: Timed, sort: Sort, slot: int, apart: float) -> Finding | None:
    """A group that takes much longer; `apart` is how much fewer of its times are among the quicker
    half of all."""
    figure, code = told.figure, sort.code[told.at]
    sides = np.flatnonzero(code == slot), np.flatnonzero((code != slot) & (code != NONE))
    if not all(map(len, sides)):
        return None
    slow, usual = (median_of(told.value[side]) for side in sides)
    if slow < MANY_TIMES * usual:
        return None
    own, rest = (middle(told.value[side], told.user[side]) for side in sides)
    assert own
    assert rest
    name = sort.names[slot]
    sentence = (
        f"In {name}, {figure.of} take {seconds(own.median)} {figure.says} (the median); "
        f"elsewhere {seconds(rest.median)}."
    )
    both, where = (side_of_times(own), side_of_times(rest)), (name, sort.segments[slot])
    return _finding("group", figure, sentence, where, both, abs(apart) * own.users)


def _beyond_likes(told: Shares, asked: Asked) -> Iterator[_Looked]:
    """Stages of one kind, each against the others: as many times their share, and more."""
    kinds, whole = [figure.like for figure in told.figures], told.of[0]
    level = np.full(len(kinds), np.nan)
    for cell, kind in enumerate(kinds):
        others = [i for i, like in enumerate(kinds) if kind and like == kind and i != cell]
        x, y = (float(side[others, 0].sum()) for side in whole[:2])
        level[cell] = x / y if y else np.nan
    norm = MANY_TIMES * level + LEAST
    shares, p = estimates(whole), p_beyond(whole, norm)
    for cell in np.flatnonzero(~np.isnan(level) & ~np.isnan(p)).tolist():
        own, figure = shares.at(cell, 0), told.figures[cell]
        sentence = (
            f"{percent(own.share)} of {figure.of} {figure.says}; on the other {figure.like}, "
            f"{percent(level[cell])} did."
        )
        touched = (own.share - float(level[cell])) * own.users
        sides = side_of(own), _level(float(level[cell]))
        finding = _finding("like", figure, sentence, ("", ""), sides, touched)
        worth = own.share > norm[cell]
        yield _looked(cell, finding, float(p[cell]), bool(worth), asked.inside)


def of_ends(study: Study, scope: Scope) -> Iterator[Candidate]:
    """Screens on which more journeys end for good than twice what is to be expected of where they
    stand, and 2 in 100 of their visits."""
    ends = [one for one in dropoffs.measure(study, scope).screens if one.true.times]
    odd = [one.screen for one in ends if one.true.times > _most_to_expect(one)]
    touching = dict(zip(odd, dropoffs.ended_for_good(study, scope, odd), strict=True))
    for one in ends:
        visits, limit = one.visits.times, _most_to_expect(one)
        share, expected = one.true.times / visits, one.expected / visits
        words = f"ended on {one.screen}", f"visits of {one.screen}"
        figure = Figure("drop-offs", one.true.figure, *words, 1, False)
        sentence = (
            f"{percent(share)} of visits of {one.screen} end there for good; of where it stands, "
            f"{percent(expected)} would be expected."
        )
        own = Side(share, one.rate.low, one.rate.high, one.true.times, visits, one.true.users)
        touched = max(one.excess, 0) * one.true.users / one.true.times
        sides = own, _level(expected)
        finding = _finding("expected", figure, sentence, ("", ""), sides, touched)
        p = float(pdtrc(one.true.times - 1, limit))
        inside = touching.get(one.screen)
        journeys = _NOBODY if inside is None else Journeys(inside)
        yield Candidate(finding, one.screen, "", p, inside is not None, journeys)


def _most_to_expect(one: dropoffs.DropOff) -> float:
    return 2 * one.expected + LEAST * one.visits.times


_NOBODY = Journeys(np.zeros(0, bool))


class _Looked(NamedTuple):
    """A share that may be a finding, before the journeys are known in which it went badly."""

    cell: int
    finding: Finding
    p: float
    worth: bool
    inside: Mask
    by: str = ""

    def touching(self, subject: str, bad: Mapping[int, Mask]) -> Candidate:
        journeys = Journeys(bad[self.cell] & self.inside) if self.worth else _NOBODY
        return Candidate(self.finding, subject, self.by, self.p, self.worth, journeys)


def _looked(
    cell: int, finding: Finding, p: float, worth: bool, inside: Mask, by: str = ""
) -> _Looked:
    return _Looked(cell, finding, p, worth and p < _CLEAR, inside, by)


def _bad(told: Shares, cells: Sequence[int]) -> dict[int, Mask]:
    """The journeys in which it went badly."""
    found = told.having([cell for cell in cells if told.figures[cell].worse > 0])
    for cell in set(cells) - found.keys():
        series = told.series(cell)
        found[cell] = series.base > series.count
    return found


def _unclear(p: float) -> Candidate:
    """What was looked at and may well be chance."""
    return Candidate(None, "", "", p, False, _NOBODY)


def _finding(
    kind: Kind,
    figure: Figure,
    sentence: str,
    where: tuple[str, str],
    sides: tuple[Side, Side],
    touched: float,
) -> Finding:
    name, segment = where
    key = json.dumps([kind, figure.measure, figure.name, figure.figure, figure.timed, segment])
    return Finding(
        kind, key, sentence, figure.measure, figure.name, figure.figure, figure.timed,
        name, segment, *sides, touched, 1.0, [],
    )  # fmt: skip


def _level(share: float) -> Side:
    return Side(share, share, share, 0, 0, 0)


def percent(share: float) -> str:
    return f"{share * 100:.1f}".removesuffix(".0") + "\u00a0%"


def seconds(milliseconds: float) -> str:
    if milliseconds < 1000:
        return f"{milliseconds:.0f} ms"
    if milliseconds < 99_500:
        return f"{milliseconds / 1000:.1f} s"
    return f"{milliseconds / 60_000:.0f} min"
