"""Drop-offs: where journeys end, beyond what is to be expected, and what it costs.

An exit is the last step of a journey that the log's end did not cut off. It is a pause where the
user's next journey begins within a day on the same screen, else a *true* exit.

**Excess** is how many more true exits a screen has than its steps would lead to expect by where
they stand: a logistic model (D. Cox, J. R. Stat. Soc. B 20, 1958) of leaving at a step by its
depth, its number in the journey and how that began, fitted to all steps by Newton's method.

**Weight** is how much likelier a journey would reach a goal if a screen lost no one: in an
absorbing Markov chain over screens (J. Kemeny and J. Snell, Finite Markov Chains, 1960), fitted to
the moves seen, those who left from the screen go on as the others there do.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csr_array, eye_array
from scipy.sparse.linalg import splu

from mossy_trail.core.kernel import kernel, read_only
from mossy_trail.core.measures.cells import Cells, Frequencies, Grid, cells, frequencies, picked
from mossy_trail.core.measures.loops import loops
from mossy_trail.core.model.app_map import ROLE
from mossy_trail.core.model.log import DAY, NONE, OUTCOME, SECOND, Column
from mossy_trail.core.model.steps import EXIT, EXITS, MOVES, Steps

LASTS = ("failed", "blocked", "loop", "quiet")
"""What came before an exit: a failed try or a refused move on its step, a loop that the journey
ended with, or none of these."""
_OK, _FAILED = OUTCOME["ok"], OUTCOME["failed"]
_CUT = EXIT["cut"]
MARKS: dict[str, tuple[int, ...]] = {
    "steps": tuple(range(1, 41)),
    "time": (
        *(1, 2, 3, 5, 7, 10, 15, 20, 30, 45, 60, 90, 120, 180, 300, 420, 600, 900, 1200, 1800),
        *(2700, 3600, 5400, 7200, 10800, 18000),
    ),
}
"""Numbers of steps, and seconds, after which it is told how many journeys still go on."""


class Ends(NamedTuple):
    """Journeys that ended: of those with steps, all that the log's end did not cut off."""

    step: NDArray[np.int64]
    journey: NDArray[np.int64]
    true: NDArray[np.bool_]


def ends(steps: Steps, inside: NDArray[np.bool_]) -> Ends:
    """The ends of the journeys `inside`; linear in steps."""
    journeys = steps.journeys
    own = np.flatnonzero(inside & (journeys.steps > 0) & (journeys.exit != EXIT["cut"]))
    last = (journeys.first_step + journeys.steps - 1)[own].astype("i8")
    if not len(own):
        return Ends(last, own, np.zeros(0, bool))
    after = np.minimum(own + 1, len(inside) - 1)
    again = (after != own) & (journeys.user[after] == journeys.user[own])
    again &= (journeys.steps[after] > 0) & (journeys.start[after] - journeys.end[own] < DAY)
    first = np.where(again, journeys.first_step[after], 0).astype("i8")
    splash = (steps.role[first] == ROLE["splash"]) & (journeys.steps[after] > 1)
    first = np.where(again & splash, first + 1, first)
    return Ends(last, own, ~(again & (steps.screen[first] == steps.screen[last])))


def label(steps: Steps, inside: NDArray[np.bool_], found: Ends) -> dict[str, Cells]:
    """Cells of screens: `visits`, `exits`, `true`; `exit`, SCREEN, KIND; `last`, SCREEN, MOVE;
    `why`, SCREEN, one of `LASTS`; `from`, SCREEN, the screen before."""
    own, names, journey = steps.steps, steps.places.names, found.journey
    screen, by_screen = steps.screen[found.step].astype("i8"), Grid(names)
    inner = np.repeat(inside, steps.journeys.steps)
    round_and_round = loops(steps, inside)
    ended = np.zeros(len(inside), bool)
    ended[round_and_round.journey[round_and_round.ended]] = True
    looping = ended[journey]
    why = np.select([_failed(steps, found), own.refused[found.step] > 0, looping], [0, 1, 2], 3)
    several = steps.journeys.steps[journey] > 1
    before = screen * len(names) + steps.screen[np.maximum(found.step - 1, 0)]
    parts = (
        ("exit", EXITS, steps.journeys.exit[journey]),
        ("last", MOVES, own.move[found.step]),
        ("why", LASTS, why),
    )
    return {
        "visits": picked(by_screen, inner, steps.screen, own.journey),
        "exits": cells(by_screen, screen, journey),
        "true": cells(by_screen, np.where(found.true, screen, NONE), journey),
        **{
            kind: cells(Grid(names, words), screen * len(words) + code, journey)
            for kind, words, code in parts
        },
        "from": cells(Grid(names, names), np.where(several, before, NONE), journey),
    }


def _failed(steps: Steps, found: Ends) -> NDArray[np.bool_]:
    """Ends on whose step a try of signing in or up failed, with none after it that went well."""
    journeys = steps.journeys
    end = (journeys.first_row + journeys.rows)[found.journey]
    outcome = read_only(steps.log.columns["outcome"])
    return _failed_last(outcome, steps.steps.first_row[found.step], end)


@kernel
def _failed_last(outcome: Column, first: Column, end: Column) -> NDArray[np.bool_]:
    found = np.zeros(len(first), np.bool_)
    for i in range(len(first)):
        for row in range(end[i] - 1, first[i] - 1, -1):
            if outcome[row] == _OK or outcome[row] == _FAILED:
                found[i] = outcome[row] == _FAILED
                break
    return found


def still_going(steps: Steps, inside: NDArray[np.bool_], kind: str, mark: float) -> NDArray[Any]:
    """Which journeys have so many `steps`, or lasted so many seconds (`time`); of those with any
    step. Shape (journeys,)."""
    return inside & (steps.journeys.steps > 0) & (_lengths(steps, kind) >= mark)


def survivors(steps: Steps, inside: NDArray[np.bool_], kind: str) -> NDArray[np.int64]:
    """How many journeys reach each of the `MARKS` of a kind; shape (marks,)."""
    marks = np.array(MARKS[kind])
    own = _lengths(steps, kind)[inside & (steps.journeys.steps > 0)]
    passed = np.searchsorted(marks, own, side="right")
    return np.bincount(passed, minlength=len(marks) + 1)[::-1].cumsum()[::-1][1:]


def _lengths(steps: Steps, kind: str) -> NDArray[Any]:
    journeys = steps.journeys
    return journeys.steps if kind == "steps" else (journeys.end - journeys.start) / SECOND


_DEPTHS, _NUMBERS, _STARTS = 6, 12, 4
_KINDS = (_DEPTHS + 1) * _NUMBERS * _STARTS


def grouped(
    steps: Steps, inside: NDArray[np.bool_], found: Ends
) -> tuple[Frequencies, Frequencies]:
    """How many steps there are of each screen and kind of step, and how many of them true exits.

    A kind is a depth up to 6, a number in the journey by powers of two, and whether that began
    cold, and by a link; together with the screen it is one number.
    """
    own, journeys = steps.steps, steps.journeys
    key = _kinds(
        (steps.screen, own.entry, steps.entries.depth),
        (journeys.first_step, journeys.steps, journeys.start_kind, steps.began_by_link),
        inside & (journeys.exit != _CUT),
    )
    size = len(steps.places.names) * _KINDS
    return frequencies(key, size), frequencies(key[found.step[found.true]], size)


@kernel
def _kinds(
    walked: tuple[Column, Column, Column],
    journeys: tuple[Column, Column, Column, Column],
    counted: Column,
) -> NDArray[np.int64]:
    screen, entry, depth = walked
    first_step, steps, start_kind, by_link = journeys
    key = np.full(len(screen), -1, np.int64)
    for j in range(len(counted)):
        if not counted[j]:
            continue
        first, end = first_step[j], first_step[j] + steps[j]
        began = (2 if by_link[j] else 0) + (1 if start_kind[j] == 0 else 0)
        power = 0
        for i in range(first, end):
            if power < _NUMBERS - 1 and i - first + 1 == 2 << power:
                power += 1
            deep = min(depth[entry[i]], _DEPTHS)
            key[i] = screen[i] * _KINDS + (deep * _NUMBERS + power) * _STARTS + began
    return key


def expected(steps_of: Frequencies, exits_of: Frequencies, screens: int) -> NDArray[np.float64]:
    """True exits to be expected of each screen by the model; shape (screens,)."""
    result, steps = np.zeros(screens), steps_of.times.astype("f8")
    if not len(steps):
        return result
    screen, kind = np.divmod(steps_of.number, _KINDS)
    exits = np.zeros(len(steps))
    exits[np.searchsorted(steps_of.number, exits_of.number)] = exits_of.times
    depth, power = kind // (_NUMBERS * _STARTS), kind // _STARTS % _NUMBERS
    began = kind % _STARTS
    known = np.column_stack(
        [np.ones(len(kind)), np.log(np.maximum(depth, 1)), power, power**2, began % 2, began // 2]
    )
    np.add.at(result, screen, steps * _fit(known, steps, exits))
    return result


def _fit(
    known: NDArray[np.float64], steps: NDArray[np.float64], exits: NDArray[np.float64]
) -> NDArray[np.float64]:
    """The chance to leave of each group, by logistic regression with a slight ridge."""
    weights, ridge = np.zeros(known.shape[1]), 1e-6 * np.eye(known.shape[1])
    chance = _chances(known, weights)
    for _ in range(50):
        gain = known.T @ (exits - steps * chance) - ridge @ weights
        curve = (known * (steps * chance * (1 - chance))[:, None]).T @ known + ridge
        step = np.linalg.solve(curve, gain)
        weights = weights + step
        chance = _chances(known, weights)
        if np.abs(step).max() < 1e-9:
            break
    return chance


def _chances(known: NDArray[np.float64], weights: NDArray[np.float64]) -> NDArray[np.float64]:
    return np.asarray(1 / (1 + np.exp(-np.clip(known @ weights, -30, 30))))


def transitions(steps: Steps, inside: NDArray[np.bool_], found: Ends) -> Frequencies:
    """How often a screen follows on another, each pair as a number: `pairs` tells them."""
    journeys, size = steps.journeys, len(steps.places.names) + 2
    screen = steps.screen.astype("i8") + 2
    before = np.append(0, screen[:-1])[: len(screen)]
    before[journeys.first_step[journeys.steps > 0]] = 1
    inner = np.repeat(inside & (journeys.exit != _CUT), journeys.steps)
    on = np.where(inner, before * size + screen, NONE)
    return frequencies(np.concatenate([on, screen[found.step] * size]), size * size)


def pairs(moves: Frequencies, screens: int) -> dict[tuple[int, int], int]:
    """Screens that follow on each other; −1 before the first of a journey, −2 after its last."""
    before, after = np.divmod(moves.number, screens + 2)
    both = zip((before - 2).tolist(), (after - 2).tolist(), strict=True)
    return dict(zip(both, moves.times.tolist(), strict=True))


def weights(
    moves: dict[tuple[int, int], int], goal: int, screens: int
) -> tuple[float, NDArray[np.float64]]:
    """The chance of a journey to reach the goal, and how much it would gain by each screen.

    The chain is solved once: that a screen lets no one go scales its row, a change of rank one
    (J. Sherman and W. Morrison, Ann. Math. Stat. 21, 1950).
    """
    pairs = np.array(list(moves), "i8").reshape(-1, 2)
    counts = np.array(list(moves.values()), "f8")
    inner = (pairs[:, 0] >= 0) & (pairs[:, 0] != goal)
    total = np.bincount(pairs[inner, 0], counts[inner], screens)
    left = inner & (pairs[:, 1] == -2)
    leaving = np.bincount(pairs[left, 0], counts[left], screens) / np.maximum(total, 1)
    goes, starts = inner & (pairs[:, 1] >= 0), pairs[:, 0] == -1
    share = counts[goes] / total[pairs[goes, 0]]
    chain = csr_array((share, (pairs[goes, 0], pairs[goes, 1])), shape=(screens, screens))
    into = np.bincount(pairs[starts, 1], counts[starts], screens) / max(counts[starts].sum(), 1)
    reached = np.zeros(screens)
    reached[goal] = 1.0
    solver = splu((eye_array(screens) - chain).tocsc())
    chance, visits = solver.solve(reached), solver.solve(into, trans="T")
    gains = np.zeros(screens)
    for screen in np.flatnonzero((leaving > 0) & (leaving < 1) & (visits > 0)).tolist():
        unit = np.zeros(screens)
        unit[screen] = 1.0
        row = (1 / (1 - leaving[screen]) - 1) * chain[[screen], :].toarray()[0]
        gains[screen] = visits[screen] * (row @ chance) / (1 - row @ solver.solve(unit))
    return float(into @ chance), gains
