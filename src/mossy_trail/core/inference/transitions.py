"""The transition model: how usual each move is in an app, by which its readings are weighed."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.kernel import inner_kernel, kernel
from mossy_trail.core.model.app_map import ROLE
from mossy_trail.core.model.log import EVENT, NONE, Column
from mossy_trail.core.model.steps import MOVE, MOVES
from mossy_trail.core.replay.batches import Walked
from mossy_trail.core.replay.run import Run

ONE = 1000
"""Counts are in thousandths of a step, in whole numbers, so that their sums have no order."""

_INSIDE, _OUTSIDE, _FROM_SHEET, _ENTERING = range(4)
_FIRST_GUESS: tuple[dict[str, float], ...] = (
    {
        **{"push": 0.4, "pop": 0.28, "switch_tab": 0.14, "open_modal": 0.04, "pop_to": 0.04},
        **{"link": 0.01, "redirect": 0.02, "replace": 0.02, "close_modal": 0.01, "update": 0.01},
        **{"reset": 0.005, "forward": 0.1},
    },
    {
        **{"push": 0.6, "pop": 0.24, "replace": 0.05, "reset": 0.02, "pop_to": 0.02},
        **{"open_modal": 0.02, "update": 0.01, "forward": 0.1},
    },
    {
        **{"close_modal": 0.7, "pop": 0.06, "push": 0.06, "replace": 0.05, "open_modal": 0.04},
        **{"switch_tab": 0.03, "link": 0.02, "redirect": 0.02, "pop_to": 0.01, "reset": 0.01},
    },
    {
        **{"replace": 0.85, "pop": 0.06, "reset": 0.03, "push": 0.03, "link": 0.01, "pop_to": 0.01},
    },
)
"""Between screens inside, between those outside, from sheets, and from outside to the inside."""
_GUESS = np.array([[guess.get(move, 0.0) for move in MOVES] for guess in _FIRST_GUESS])
_GUESS_STEPS = 200
"""So many steps of the log count as much as the first guess of how common each move is."""
_PAIR_STEPS = 20
"""So many steps from a screen count as much as what is usual in the whole app."""
_FAR_STEPS = 80
"""So many, where it is about going back over several at once: a screen from which people always
seem to do so has more likely taken the place of the one before."""
_ALSO_AHEAD = 0.05
"""The share of all views of a pair that counts as ways ahead, though the first reading has none."""
_BACK_AT_ROOT = 0.35
"""What going back from a tab's root weighs beside going back from other screens."""
_ANEW = 0.02
"""The share of other moves than `update` where a screen follows on itself with other params."""
REPLACING = np.array([0.003, 0.02, 0.1, 0.3, 0.6, 0.9, 0.98])
"""How often a screen may take the place of the one before, where a pair of screens goes ahead."""
_GUESS_REPLACING = np.array([0.5, 0.25, 0.1, 0.05, 0.04, 0.04, 0.02])
"""The first guess of how many pairs each of these is true of."""
_GUESS_PAIRS = 20
"""So many pairs of screens in the log count as much as this guess."""
_ROUNDS = 10
_BACK = [MOVE[word] for word in ("start", "pop", "pop_to", "close_modal", "switch_tab", "forward")]
_TO_WHAT_IS_THERE = [MOVE[word] for word in ("pop", "pop_to", "close_modal", "forward")]
_FAR = MOVE["pop_to"]
_PUSH, _UPDATE, _SWITCH = MOVE["push"], MOVE["update"], MOVE["switch_tab"]
_REPLACE = MOVE["replace"]


class TransitionModel(NamedTuple):
    """The chance of each move from one screen to another, given that the stacks allow it.

    `keys` is a table with open addressing (D. Knuth, The Art of Computer Programming 3, 6.4) of
    pairs of screens, `weights` has per slot the chance of each move, and in its last row those of
    a pair never seen. `of_screen` and `of_params` count the views of each.
    """

    keys: NDArray[np.int64]
    weights: NDArray[np.float64]
    of_screen: NDArray[np.float64]
    of_params: NDArray[np.float64]


class Pairs(NamedTuple):
    """Pairs of screens that follow on each other; all of shape (pairs,)."""

    keys: NDArray[np.int64]
    """From × screens + to, ascending."""
    views: NDArray[np.int64]
    """How often it occurs."""
    home: NDArray[np.int64]
    """The tab of the second one, −1 for none or several."""


class Tally(NamedTuple):
    """What readings, or rows, tell of pairs of screens; in whole numbers, for sums without order.

    `moves`, of shape (pairs, moves), has how often each move is, in units of 1 / `ONE` steps;
    `replacing`, of shape (pairs, len(`REPLACING`)), how likely each of those shares makes what is
    told, as logarithms in units of 1 / `ONE`.
    """

    moves: NDArray[np.int64]
    replacing: NDArray[np.int64]


def pairs_of(runs: Sequence[Run]) -> Pairs:
    """The pairs of screens whose views follow on each other in these runs."""
    found = [np.empty(0, "int64")]
    for run in runs:
        rows = run.rows[(run.rows["event"] == EVENT["screen_view"]) & (run.rows["screen"] != NONE)]
        on = rows["journey"][1:] == rows["journey"][:-1]
        screen = rows["screen"].astype("int64")
        found.append(screen[:-1][on] * len(run.screens) + screen[1:][on])
    keys, views = np.unique(np.concatenate(found), return_counts=True)
    screens = runs[0].screens
    return Pairs(keys, views, np.maximum(screens["home"][keys % len(screens)], NONE))


def counted(pairs: Pairs, walked: Sequence[Walked], screens: int) -> tuple[Tally, Column]:
    """What rows tell of each pair; and how often, by a first reading, it is a way forward.

    The latter in steps, of shape (pairs,).
    """
    told = np.zeros((len(pairs.keys), len(MOVES)), "int64")
    ahead = _ALSO_AHEAD * pairs.views
    for entries, steps, *_ in walked:
        screen = entries.screen[steps.entry].astype("int64")
        keys = screen[:-1] * screens + screen[1:]
        at = np.minimum(np.searchsorted(pairs.keys, keys), len(pairs.keys) - 1)
        known = (steps.journey[1:] == steps.journey[:-1]) & (len(pairs.keys) > 0)
        if len(pairs.keys):
            known &= pairs.keys[at] == keys
        move = steps.move[1:]
        by_rows = known & ~steps.inferred[1:]
        np.add.at(told, (at[by_rows], move[by_rows]), ONE)
        np.add.at(ahead, at[known & ~np.isin(move, _BACK)], 1.0)
    pushed, replaced = told[:, [_PUSH]], told[:, [_REPLACE]]
    likely = replaced * np.log(REPLACING) + pushed * np.log(1 - REPLACING)
    return Tally(told, np.rint(likely).astype("int64")), ahead


def transition_model(
    pairs: Pairs, tally: Tally, ahead: Column, runs: Sequence[Run]
) -> TransitionModel:
    """The model by what is told of pairs, and ways `ahead`.

    Each move's chance from a screen is its share there, drawn toward its share in the whole app
    where few steps tell it. Moves that put a screen on a stack have the chance of this screen in
    it; those that go to what stands there already have not.
    """
    screens = runs[0].screens
    start, end = np.divmod(pairs.keys, max(len(screens), 1))
    kind = _kinds(screens, start, pairs.home)
    of_kind = _GUESS_STEPS * _GUESS
    np.add.at(of_kind, kind, tally.moves / ONE)
    prior_of_kind = (of_kind / of_kind.sum(1, keepdims=True))[kind]
    views_from = _sums(start, pairs.views)
    prior = prior_of_kind * (ahead / views_from)[:, None]
    prior[:, _TO_WHAT_IS_THERE] = prior_of_kind[:, _TO_WHAT_IS_THERE]
    again = start == end
    anew = prior[again][:, [_PUSH, _UPDATE]].sum(1)
    prior[again] *= _ANEW
    prior[again, _UPDATE], prior[again, _PUSH] = (1 - _ANEW) * anew, _ANEW * anew
    to_tab = np.unique([start, pairs.home], axis=1, return_inverse=True)[1].ravel()
    prior[:, _SWITCH] = prior_of_kind[:, _SWITCH] * _sums(to_tab, pairs.views) / views_from
    prior[_is_root(runs[0], start), MOVE["pop"]] *= _BACK_AT_ROOT
    own = tally.moves / ONE
    steps_from = _sums(start, own.sum(1))[:, None]
    for move in _TO_WHAT_IS_THERE:
        own[:, move] = _sums(start, own[:, move])
    own[:, _SWITCH] = _sums(to_tab, own[:, _SWITCH])
    drawn = np.full(len(MOVES), float(_PAIR_STEPS))
    drawn[_FAR] = _FAR_STEPS
    weights = (own + drawn * prior) / (steps_from + drawn)
    for of in (_INSIDE, _OUTSIDE, _FROM_SHEET):
        among = (kind == of) & ~again
        ahead_there = weights[among][:, [_PUSH, _REPLACE]].sum(1)
        weights[among, _REPLACE] = ahead_there * _replacing(tally.replacing[among])
        weights[among, _PUSH] = ahead_there - weights[among, _REPLACE]
    unseen = _GUESS[_INSIDE] / max(len(screens), 1)
    unseen[_TO_WHAT_IS_THERE] = _GUESS[_INSIDE, _TO_WHAT_IS_THERE]
    return TransitionModel(*_table(pairs.keys, weights, unseen), *_views(runs))


def _replacing(likely: Column) -> Column:
    """Per pair, how often its way ahead takes the place of the screen before.

    Which it does is the app's design, and so mostly always or never the same: what is common among
    pairs is learned from all of them (N. Laird, J. Am. Stat. Assoc. 73, 1978), and tells of each.
    """
    likely = np.exp((likely - likely.max(1, keepdims=True)) / ONE)
    common = _GUESS_REPLACING
    for _ in range(_ROUNDS):
        each = likely * common
        each /= each.sum(1, keepdims=True)
        common = (_GUESS_PAIRS * _GUESS_REPLACING + each.sum(0)) / (_GUESS_PAIRS + len(each))
    return each @ REPLACING


def _sums(group: Column, values: Column) -> Column:
    """Per element, the sum of its group's values."""
    return np.bincount(group, values)[group] if len(group) else np.zeros(0)


def _is_root(run: Run, screens: Column) -> Column:
    """Which of these are the root of a tab."""
    return np.isin(screens, run.tabs["root"])


def _kinds(screens: Column, start: Column, home: Column) -> Column:
    """Per pair, the row of the first guess that it goes by."""
    sheets = np.isin(screens["role"][start], (ROLE["sheet"], ROLE["menu"]))
    entering = np.where(home >= 0, _ENTERING, _OUTSIDE)
    inside = np.where(sheets, _FROM_SHEET, _INSIDE)
    return np.where(screens["outside"][start] != 0, entering, inside)


def _table(keys: Column, weights: Column, unseen: Column) -> tuple[Column, Column]:
    size = 1 << (2 * len(keys) + 1).bit_length()
    table = np.full(size, NONE, "int64")
    slots = np.empty(len(keys), "int64")
    _put(table, keys, slots)
    of_slot = np.tile(unseen, (size + 1, 1))
    of_slot[slots] = weights
    return table, of_slot


@kernel
def _put(table: Column, keys: Column, slots: Column) -> None:
    for i in range(len(keys)):
        slot = _slot(table, keys[i])
        table[slot] = keys[i]
        slots[i] = slot


@inner_kernel
def _slot(table: Column, key: int) -> int:
    """Where the key stands in the table, or the free place where it would."""
    last = len(table) - 1
    slot = ((key * -7046029254386353131) >> 20) & last
    while table[slot] != NONE and table[slot] != key:
        slot = (slot + 1) & last
    return slot


@kernel
def slots_of(model: TransitionModel, keys: Column) -> Column:
    """The row of `weights` of each pair."""
    slots = np.empty(len(keys), np.int64)
    for i in range(len(keys)):
        slots[i] = _slot(model.keys, keys[i])
    return slots


@inner_kernel
def pair_row(model: TransitionModel, key: int) -> int:
    """The row of `weights` of a pair."""
    slot = _slot(model.keys, key)
    return slot if model.keys[slot] == key else len(model.keys)


def _views(runs: Sequence[Run]) -> tuple[Column, Column]:
    """How many views show each screen, and each set of params."""
    screens = np.zeros(len(runs[0].screens))
    params = np.zeros(1)
    for run in runs:
        rows = run.rows[(run.rows["event"] == EVENT["screen_view"]) & (run.rows["screen"] != NONE)]
        screens += np.bincount(rows["screen"], minlength=len(screens))
        own = np.bincount(rows["params"] + 1)
        params = np.pad(params, (0, max(0, len(own) - len(params))))
        params[: len(own)] += own
    return screens, params[1:]
