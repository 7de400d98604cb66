"""Onboarding screen by screen: where a chain of screens is left, by which way, and what it takes.

A step on a screen of the chain goes *on* (to a later one of it, or from the last one inside), goes
*back* (by going back, or to an earlier one), *skips* (gets inside from before the last), *ended*
(the session did) or goes *elsewhere*. Who goes on from the last one has finished.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.kernel import kernel
from mossy_trail.core.model.log import NONE, Column
from mossy_trail.core.model.steps import GOES_BACK, TAB, Steps

WAYS = ("on", "back", "skipped", "ended", "elsewhere")
_ON, _BACK, _SKIPPED, _ENDED, _ELSEWHERE = range(len(WAYS))
ENDS = ("finished", "later", "skipped", "never")
"""What became of a user: finished in the session that began it, or in a later one; got inside
without; or neither."""


@dataclass(frozen=True, eq=False)
class Labels:
    """Per step on a screen of the chain: its place there, its way on, and its journey; and per
    user who began (shape (users,)): in which journey, what became of it, and when it was finished
    after it was begun, in microseconds, −1 where it was not."""

    screen: NDArray[np.int64]
    way: NDArray[np.int64]
    journey: NDArray[np.int64]
    dwell: NDArray[np.int64]
    begun: NDArray[np.int64]
    end: NDArray[np.int64]
    took: NDArray[np.int64]


def label(steps: Steps, chain: Sequence[str], inside: NDArray[np.bool_]) -> Labels:
    """The steps of the journeys `inside` that are on the chain; linear in steps."""
    names = {name: i for i, name in enumerate(chain)}
    place_of = np.array([names.get(name, NONE) for name in steps.places.names], "i8")
    own = steps.steps.journey
    at = _on_chain(steps.screen, own, place_of, inside)
    place, journey = place_of[steps.screen[at]], own[at].astype("i8")
    last = np.ones(len(at), bool)
    inner = at + 1 < len(own)
    last[inner] = own[at[inner] + 1] != own[at[inner]]
    after = np.where(last, at, at + 1)
    then = place_of[steps.screen[after]]
    in_tab = steps.entries.region[steps.steps.entry[after]] == TAB
    back = GOES_BACK[steps.steps.move[after]]
    before = (then != NONE) & (then < place)
    final = place == len(chain) - 1
    way = np.full(len(at), _ELSEWHERE)
    way[(then > place) | (final & in_tab)] = _ON
    way[~final & in_tab] = _SKIPPED
    way[back | before] = _BACK
    way[last] = _ENDED
    users = _users(steps, at, journey, final & (way == _ON), way == _SKIPPED)
    return Labels(place, way, journey, steps.dwell[at], *users)


@kernel
def _on_chain(screen: Column, journey: Column, place: Column, inside: Column) -> NDArray[np.int64]:
    """The steps on screens that have a place, of journeys inside."""
    found = np.empty(len(screen), np.int64)
    count = 0
    for i in range(len(screen)):
        if place[screen[i]] >= 0 and inside[journey[i]]:
            found[count] = i
            count += 1
    return found[:count].copy()


def _users(
    steps: Steps,
    at: NDArray[np.int64],
    journey: NDArray[np.int64],
    finishes: NDArray[np.bool_],
    skips: NDArray[np.bool_],
) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]:
    """Journeys are in order of users and of time, so a user's first step is the earliest."""
    user = steps.journeys.user[journey]
    starts = np.flatnonzero(np.append(True, user[1:] != user[:-1])) if len(user) else journey
    which = np.cumsum(np.append(True, user[1:] != user[:-1])) - 1 if len(user) else journey
    first_finish = np.full(len(starts), len(at))
    np.minimum.at(first_finish, which[finishes], np.flatnonzero(finishes))
    finished = first_finish < len(at)
    done = np.where(finished, first_finish, 0)
    skipped = np.zeros(len(starts), bool)
    skipped[which[skips]] = True
    end = np.where(skipped, ENDS.index("skipped"), ENDS.index("never"))
    if len(at):
        same = finished & (journey[done] == journey[starts])
        end = np.where(finished, np.where(same, 0, ENDS.index("later")), end)
        until = steps.steps.visible[np.minimum(at[done] + 1, len(steps.screen) - 1)]
        took = np.where(finished, until - steps.steps.visible[at[starts]], NONE)
        return journey[starts], end, took
    return journey, end, journey
