"""Gates: what sent people to sign in, and whether they reached what they had wanted.

A gate is a redirect onto a sign-in screen from anything else. Its cause is a *link* that led there,
a sign-in that had *expired* (the session had been signed in before), or that the user *asked* for a
screen behind it. It is lost, or the user got *in*, or in and *reached* the screen that was wanted,
before the next gate and within the session. A detour is a way by a recovery or sign-up screen, in
a session that has met sign-in; it got in if a try after it did, or if signing up went well.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.kernel import kernel, read_only
from mossy_trail.core.model.app_map import ROLE
from mossy_trail.core.model.log import EVENT, NONE, OUTCOME, Column
from mossy_trail.core.model.steps import MOVE, Steps

CAUSES = ("asked", "link", "expired")
OUTCOMES = ("lost", "in", "reached")
_ASKED, _LINK, _EXPIRED = range(3)
_LOST, _IN, _REACHED = range(3)
_REDIRECT, _OK, _FAILED = MOVE["redirect"], OUTCOME["ok"], OUTCOME["failed"]
_SIGN_UP = EVENT["sign_up"]
_SIGN_IN, _SIGN_OUT, _RESTORED = (EVENT[w] for w in ("sign_in", "sign_out", "session_restored"))


class Labels(NamedTuple):
    """Per gate its journey, cause and outcome, shape (gates,); the rest per journey.

    `failed` and `ok` count tries, `needed` is the number of the first that went well (0: none did).
    Per kind of detour: 1 if it was made, 2 if the user then got in.
    """

    journey: NDArray[np.int32]
    cause: NDArray[np.int8]
    outcome: NDArray[np.int8]
    failed: NDArray[np.int32]
    ok: NDArray[np.int32]
    needed: NDArray[np.int32]
    recovery: NDArray[np.int8]
    sign_up: NDArray[np.int8]


def label(steps: Steps, inside: NDArray[np.bool_]) -> Labels:
    """The gates of the journeys `inside`, in order; linear in rows and steps."""
    columns, journeys = steps.log.columns, steps.journeys
    roles = [ROLE[word] for word in ("sign_in", "sign_up", "recovery")]
    cause, outcome = np.full(len(steps.screen), NONE, "i1"), np.zeros(len(steps.screen), "i1")
    failed, ok, needed = (np.zeros(len(inside), "i4") for _ in range(3))
    detours = np.zeros((2, len(inside)), "i1")
    walked = _Walked(
        steps.screen, np.isin(steps.role, roles), _detour(steps), steps.role == ROLE["sign_in"],
        steps.steps.move, steps.steps.wanted, steps.steps.uri, steps.steps.visible,
        steps.steps.journey,
    )  # fmt: skip
    _label(
        read_only(columns["event"]),
        read_only(columns["outcome"]),
        read_only(columns["time"]),
        journeys.first_row,
        journeys.rows,
        inside,
        walked,
        (cause, outcome, failed, ok, needed),
        detours,
    )
    at = np.flatnonzero(cause != NONE)
    return Labels(steps.steps.journey[at], cause[at], outcome[at], failed, ok, needed, *detours)


def _detour(steps: Steps) -> NDArray[np.int8]:
    kinds = np.full(max(ROLE.values()) + 1, NONE, "i1")
    kinds[[ROLE["recovery"], ROLE["sign_up"]]] = 0, 1
    return kinds[steps.role]


class _Walked(NamedTuple):
    screen: Column
    on_the_way: Column
    detour: Column
    """0 for recovery, 1 for sign-up, −1 for all else."""
    sign_in: Column
    move: Column
    wanted: Column
    uri: Column
    visible: Column
    journey: Column


@kernel
def _label(
    event: Column,
    result: Column,
    time: Column,
    first_row: Column,
    rows: Column,
    inside: Column,
    walked: _Walked,
    found: tuple[Column, Column, Column, Column, Column],
    detours: Column,
) -> None:
    cause, outcome, failed, ok, needed = found
    step = 0
    for j in range(len(first_row)):
        while step < len(walked.journey) and walked.journey[step] < j:
            step += 1
        if not inside[j]:
            continue
        gate, signed_in, wanted, met = -1, False, -1, False
        for row in range(first_row[j], first_row[j] + rows[j]):
            while (
                step < len(walked.journey)
                and walked.journey[step] == j
                and walked.visible[step] <= time[row]
            ):
                sent = walked.move[step] == _REDIRECT and walked.sign_in[step]
                first = step == 0 or walked.journey[step - 1] != j
                if sent and (first or not walked.on_the_way[step - 1]):
                    gate, wanted = step, walked.wanted[step]
                    cause[step] = _ASKED
                    if signed_in:
                        cause[step] = _EXPIRED
                    elif walked.uri[step] != NONE:
                        cause[step] = _LINK
                elif gate >= 0 and outcome[gate] == _IN and walked.screen[step] == wanted:
                    outcome[gate] = _REACHED
                met = met or walked.sign_in[step]
                for kind in range(2):
                    if met and walked.detour[step] == kind and not detours[kind, j]:
                        detours[kind, j] = 1
                step += 1
            signs_in = event[row] == _SIGN_IN and result[row] == _OK
            if signs_in:
                ok[j] += 1
                if needed[j] == 0:
                    needed[j] = failed[j] + 1
            if signs_in or (event[row] == _SIGN_UP and result[row] == _OK):
                signed_in = True
                for kind in range(2):
                    if detours[kind, j]:
                        detours[kind, j] = 2
                if gate >= 0 and outcome[gate] == _LOST:
                    outcome[gate] = _IN
            elif event[row] == _SIGN_IN and result[row] == _FAILED:
                failed[j] += 1
            elif event[row] == _RESTORED:
                signed_in = True
            elif event[row] == _SIGN_OUT:
                signed_in = False
