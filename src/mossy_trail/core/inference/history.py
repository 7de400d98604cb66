"""Finding an app's history rules: which settings predict best where its moves land."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from mossy_trail.core.model.app_map import HISTORY, ROLE, UNDER, AppMap, Link
from mossy_trail.core.model.log import Log
from mossy_trail.core.model.steps import MARK, MOVE, Steps
from mossy_trail.core.replay.replay import first_reading, learn

_LANDED_ELSEWHERE = MARK["landed_elsewhere"]
_ENOUGH = 5.0
"""So many ways back are to be expected where none, by chance alone, would be e^−5."""
_FEWEST, _SHARE = 3, 0.02
"""A setting is better by at least so many misfits, and so large a share: less may be noise."""
_MOST_LINKS = 40
_FAR, _LEAST_FAR = 0.02, 20.0
"""Likelier by far: by so much for each row, and at all."""


@dataclass(frozen=True)
class Fit:
    """A setting of one rule, with the others as found.

    `misfits` is how many moves landed elsewhere; of views alone, by how much less likely they are
    than under the setting that makes them the likeliest, in units of the natural logarithm.
    """

    rule: str
    setting: str
    misfits: int


@dataclass(frozen=True)
class Found:
    """Per rule the setting that fits, and whether the log tells it from the others."""

    history: dict[str, str]
    told: dict[str, bool]
    fits: list[Fit]
    moves: int
    links: dict[str, str]
    """What lies under the screens of those links, by pattern, for which the log tells it."""


def find_history(parts: Sequence[Log], app_map: AppMap) -> Found:
    """The history rules under which the fewest reported moves land elsewhere than predicted.

    For each setting of `tabs`, which touches all others, one rule after the other is set to its
    best setting, until none gets better. A setting that is not clearly better than the one in the
    map does not replace it. A link that lands alone makes no move land elsewhere; it shows in that
    nobody goes back from there. What lies under the screens of single links is found likewise, with
    the rules as found.

    Where no row tells a move, the settings are held against each other by how likely they make
    the views, all readings together. Settings that allow more make anything a little likelier, so
    one is told from the others only where it is better by far.
    """
    own, trials = dict(app_map.history), _Trials(parts, app_map)
    moves = sum(int(np.count_nonzero(~s.steps.inferred)) for s in trials.replays(own))
    if parts and not moves:
        return _find_by_views(parts, app_map)
    found = {tabs: _settle(trials, {**own, "tabs": tabs}) for tabs in HISTORY["tabs"]}
    fewest = min(found, key=lambda tabs: found[tabs][0])
    kept = not _clearly_fewer(found[fewest][0], found[own["tabs"]][0])
    history = found[own["tabs"] if kept else fewest][1]
    replays = trials.replays(history)
    links = (("link_cold", True), ("link_warm", False))
    alone = [rule for rule, cold in links if _nobody_goes_back(replays, cold)]
    history.update(dict.fromkeys(alone, "alone"))
    fits: list[Fit] = []
    told: dict[str, bool] = {}
    for rule in HISTORY:
        misfits = trials.misfits(history, rule)
        fits += [Fit(rule, setting, count) for setting, count in misfits.items()]
        others = [count for setting, count in misfits.items() if setting != history[rule]]
        told[rule] = rule in alone or _clearly_fewer(misfits[history[rule]], min(others))
    return Found(history, told, fits, moves, _under_links(trials, history, replays))


def _find_by_views(parts: Sequence[Log], app_map: AppMap) -> Found:
    own, fits = dict(app_map.history), []
    found, told = dict(own), {}
    far = _FAR * sum(map(len, parts))
    for rule, settings in HISTORY.items():
        likelihood = {
            setting: learn(parts, replace(app_map, history={**own, rule: setting}))[1]
            for setting in settings
        }
        best, second = sorted(settings, key=lambda setting: -likelihood[setting])[:2]
        told[rule] = likelihood[best] - likelihood[second] > max(far, _LEAST_FAR)
        if told[rule]:
            found[rule] = best
        fits += [Fit(rule, s, round(likelihood[best] - likelihood[s])) for s in settings]
    return Found(found, told, fits, 0, {})


def _under_links(
    trials: _Trials, history: Mapping[str, str], replays: Sequence[Steps]
) -> dict[str, str]:
    """What lies under the screen of each link, for those of which the log tells it."""
    found = {}
    for link in trials.links[:_MOST_LINKS]:
        misfits = {under: trials.misfits_under(history, link, under) for under in UNDER}
        best, other = sorted(UNDER, key=lambda under: misfits[under])
        if _clearly_fewer(misfits[best], misfits[other]):
            found[link.pattern] = best
        elif any(_nobody_goes_back(replays, cold, link) for cold in (True, False)):
            found[link.pattern] = "alone"
    return found


class _Trials:
    """Replays of the same rows under one set of history rules after the other."""

    def __init__(self, parts: Sequence[Log], app_map: AppMap) -> None:
        self._parts, self._map = parts, app_map
        self._counted: dict[tuple[str, ...], int] = {}
        self.links = app_map.links

    def replays(self, history: Mapping[str, str]) -> list[Steps]:
        ruled = replace(self._map, history=history)
        return [first_reading(part, ruled) for part in self._parts]

    def misfits(self, history: Mapping[str, str], rule: str) -> dict[str, int]:
        """For each setting of a rule, the moves that land elsewhere under it."""
        return {setting: self._count({**history, rule: setting}) for setting in HISTORY[rule]}

    def misfits_under(self, history: Mapping[str, str], link: Link, under: str) -> int:
        """The moves that land elsewhere if so much lies under the screen of this link."""
        links = tuple(replace(one, under=under) if one is link else one for one in self.links)
        ruled = replace(self._map, history=history, links=links)
        return _misfits([first_reading(part, ruled) for part in self._parts])

    def _count(self, history: Mapping[str, str]) -> int:
        settings = tuple(history[rule] for rule in HISTORY)
        if settings not in self._counted:
            self._counted[settings] = _misfits(self.replays(history))
        return self._counted[settings]


def _misfits(replays: Sequence[Steps]) -> int:
    marks = (steps.steps.marks for steps in replays)
    return sum(int(np.count_nonzero(found & _LANDED_ELSEWHERE)) for found in marks)


def _settle(trials: _Trials, history: dict[str, str]) -> tuple[int, dict[str, str]]:
    """The best settings of all rules but `tabs`, and how many moves land elsewhere under them."""
    better, least = True, 0
    while better:
        better = False
        for rule in [rule for rule in HISTORY if rule != "tabs"]:
            misfits = trials.misfits(history, rule)
            best = min(misfits, key=lambda setting: misfits[setting])
            if _clearly_fewer(misfits[best], misfits[history[rule]]):
                history, better = {**history, rule: best}, True
            least = misfits[history[rule]]
    return least, history


def _clearly_fewer(few: int, many: int) -> bool:
    return many - few >= max(_FEWEST, _SHARE * few)


def _nobody_goes_back(replays: Sequence[Steps], cold: bool, link: Link | None = None) -> bool:
    """Whether links, or this one, land where there is no way back.

    On the same screens, reached by a push, a known share goes back at once. After a link none
    does, though by that share there should be enough of them (Poisson: e^−`_ENOUGH` by chance).
    """
    backs, expected = 0, 0.0
    for steps in replays:
        move, screen = steps.steps.move, steps.screen
        goes_on = np.append(steps.steps.journey[1:] == steps.steps.journey[:-1], False)
        goes_back = goes_on & (np.append(move[1:], 0) == MOVE["pop"])
        started = np.append(True, ~goes_on[:-1])[: len(move)]
        after_splash = np.append(False, steps.role[:-1] == ROLE["splash"])[: len(move)]
        linked = goes_on & (move == MOVE["link"]) & ((started | after_splash) == cold)
        if link:
            uris = steps.log.terms["uri"]
            fits = np.array([link.values(uri) is not None for uri in uris] + [False])
            linked &= fits[steps.steps.uri]
        pushed = goes_on & (move == MOVE["push"])
        size = len(steps.places.names)
        share = np.bincount(screen[pushed & goes_back], minlength=size) / np.maximum(
            np.bincount(screen[pushed], minlength=size), 1
        )
        backs += int(np.count_nonzero(linked & goes_back))
        expected += float(share[screen[linked]].sum())
    return backs == 0 and expected >= _ENOUGH
