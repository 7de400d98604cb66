"""Sign-in: of those who met it, who tried, who got in, and where the others went.

The label of a journey is `stage * len(WAYS) + way`. The stage is the furthest one reached,
matched at the earliest row possible: a sign-in screen is shown, then a try is made, then one
succeeds. Who tries has met it, whether a screen was shown before or not: some apps sign in by
themselves, and some logs lose the view. The way tells what those did who got stuck after meeting
or trying.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.kernel import kernel, read_only
from mossy_trail.core.model.app_map import ROLE
from mossy_trail.core.model.log import EVENT, NONE, OUTCOME, Column
from mossy_trail.core.model.steps import MOVE, Steps

STAGES = ("none", "met", "tried", "in")
WAYS = ("ended", "back", "recovery", "sign_up", "elsewhere", "restored")
"""What came after the last sign-in screen of a journey. `restored` stands with stage none: the
session was signed in from the start."""

_ENDED, _BACK, _RECOVERY, _SIGN_UP, _ELSEWHERE, _RESTORED = range(len(WAYS))
_UNSET = -1
_WAYS = len(WAYS)
_POP = MOVE["pop"]
_SIGN_IN_ROW, _RESTORED_ROW, _OK = EVENT["sign_in"], EVENT["session_restored"], OUTCOME["ok"]


@dataclass(frozen=True, eq=False)
class Labels:
    """Per journey of one part: its label, and the times from stage to stage in microseconds.

    Arrays of shape (journeys,); a time that was not reached is −1. `user` is the user's code.
    """

    label: NDArray[np.uint8]
    to_try: NDArray[np.int64]
    to_in: NDArray[np.int64]
    user: NDArray[np.int32]


@dataclass(frozen=True, eq=False)
class Tally:
    """Counts per label, shape (stages × ways,), and the times of all who reached the stages."""

    counts: NDArray[np.int64]
    to_try: NDArray[np.int64]
    to_in: NDArray[np.int64]

    def __add__(self, other: Tally) -> Tally:
        return Tally(
            self.counts + other.counts,
            np.concatenate([self.to_try, other.to_try]),
            np.concatenate([self.to_in, other.to_in]),
        )


EMPTY = Tally(
    np.zeros(len(STAGES) * len(WAYS), "int64"), np.empty(0, "int64"), np.empty(0, "int64")
)


def label(steps: Steps) -> Labels:
    """Label every journey of a part; linear in its steps and rows."""
    journeys, columns = steps.journeys, steps.log.columns
    way = np.full(len(steps.places.role), _ELSEWHERE, "uint8")
    way[steps.places.role == ROLE["recovery"]] = _RECOVERY
    way[steps.places.role == ROLE["sign_up"]] = _SIGN_UP
    labels, to_try, to_in = _label(
        journeys.first_step,
        journeys.steps,
        journeys.first_row,
        journeys.rows,
        (steps.places.role == ROLE["sign_in"], way),
        (steps.screen, steps.steps.move, steps.steps.visible),
        read_only(columns["event"]),
        read_only(columns["outcome"]),
        read_only(columns["time"]),
    )
    return Labels(labels, to_try, to_in, journeys.user)


@kernel
def _label(
    first_step: Column,
    steps: Column,
    first_row: Column,
    rows: Column,
    of_screen: tuple[Column, Column],
    walked: tuple[Column, Column, Column],
    event: Column,
    outcome: Column,
    time: Column,
) -> tuple[NDArray[np.uint8], NDArray[np.int64], NDArray[np.int64]]:
    n = len(first_step)
    is_sign_in, way = of_screen
    screen, move, visible = walked
    labels = np.zeros(n, np.uint8)
    to_try, to_in = np.full(n, _UNSET, np.int64), np.full(n, _UNSET, np.int64)
    for j in range(n):
        met = last = _UNSET
        end_step, end = first_step[j] + steps[j], first_row[j] + rows[j]
        for step in range(first_step[j], end_step):
            if is_sign_in[screen[step]]:
                met = step if met == _UNSET else met
                last = step
        stage, tried_at, restored = int(met != _UNSET), 0, False
        for row in range(first_row[j], end):
            what = event[row]
            if what != _SIGN_IN_ROW and what != _RESTORED_ROW:
                continue
            restored = restored or what == _RESTORED_ROW
            if what == _RESTORED_ROW or outcome[row] == NONE:
                continue
            if stage < 2:
                stage, tried_at = 2, time[row]
                if met != _UNSET and visible[met] <= tried_at:
                    to_try[j] = tried_at - visible[met]
            if outcome[row] == _OK:
                stage = 3
                to_in[j] = time[row] - tried_at
                break
        if stage == 0:
            labels[j] = _RESTORED if restored else 0
            continue
        went, after = _ENDED, last + 1
        if last == _UNSET:  # tried without a screen: what was shown after the first try
            after = first_step[j]
            while after < end_step and visible[after] <= tried_at:
                after += 1
        if after < end_step:
            went = way[screen[after]]
            if went == _ELSEWHERE and move[after] == _POP:
                went = _BACK
        labels[j] = stage * _WAYS + (_ENDED if stage == 3 else went)
    return labels, to_try, to_in


def by_user(labels: Labels, scope: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """One journey per user in scope: the one that got furthest, the last of those; (journeys,)."""
    stage = labels.label // _WAYS
    order = np.lexsort((np.arange(len(stage)), stage, labels.user))
    order = order[scope[order]]
    chosen = np.zeros(len(stage), bool)
    if len(order):
        users = labels.user[order]
        chosen[order[np.append(users[1:] != users[:-1], True)]] = True
    return chosen


def tally(labels: Labels, scope: NDArray[np.bool_]) -> Tally:
    """Count the labels of the journeys in scope."""
    counts = np.bincount(labels.label[scope], minlength=len(STAGES) * _WAYS).astype("int64")
    return Tally(
        counts,
        labels.to_try[scope & (labels.to_try >= 0)],
        labels.to_in[scope & (labels.to_in >= 0)],
    )


def figure_labels(figure: str) -> NDArray[np.bool_]:
    """Which labels a figure counts, shape (stages × ways,).

    Figures: `all`, `met`, `tried`, `in` (that far or further), `lost_met`, `lost_tried` (that
    far and no further), `lost_met.WAY`, `lost_tried.WAY`, and `restored`. Raises `KeyError` for
    any other.
    """
    stage, way = (np.asarray(x) for x in divmod(np.arange(len(STAGES) * _WAYS), _WAYS))
    if figure == "all":
        return np.ones(len(stage), bool)
    if figure == "restored":
        return (stage == 0) & (way == _RESTORED)
    if figure in STAGES[1:]:
        return stage >= STAGES.index(figure)
    name, _, way_name = figure.partition(".")
    if name not in ("lost_met", "lost_tried") or (way_name and way_name not in WAYS[:-1]):
        raise KeyError(figure)
    lost = stage == STAGES.index(name.removeprefix("lost_"))
    return lost & (way == WAYS.index(way_name)) if way_name else lost


def figures() -> list[str]:
    """Every figure that the measure has."""
    lost = ["lost_met", "lost_tried"]
    ways = [f"{stage}.{way}" for stage in lost for way in WAYS[:-1]]
    return ["all", *STAGES[1:], "restored", *lost, *ways]
