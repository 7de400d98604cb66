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

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csr_array, eye_array
from scipy.sparse.linalg import splu

from mossy_trail.core.app_map import ROLE
from mossy_trail.core.log import DAY, OUTCOME
from mossy_trail.core.measures.cells import Cells, cells, joined, named
from mossy_trail.core.steps import EXIT, EXITS, MARK, MOVE, MOVES, Steps

LASTS = ("failed", "blocked", "loop", "quiet")
"""What came before an exit on its step: a failed try, a refused move, a loop, or none of these."""
_LOOPING = MARK["ping_pong"] | MARK["gate_loop"] | MARK["piled_up"]
_OK, _FAILED = OUTCOME["ok"], OUTCOME["failed"]
Groups = dict[tuple[int, int], tuple[int, int]]


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


def label(steps: Steps, inside: NDArray[np.bool_]) -> Cells:
    """Cells of screens: `visits`, `exits`, `true`; `exit`, SCREEN, KIND; `last`, SCREEN, MOVE;
    `why`, SCREEN, one of `LASTS`; `from`, SCREEN, the screen before."""
    own, names, found = steps.steps, steps.places.names, ends(steps, inside)
    visits = np.flatnonzero(inside[own.journey])
    screen = steps.screen[found.step].astype("i8")
    journey, true = found.journey, found.true
    looping = own.marks[found.step] & _LOOPING != 0
    why = np.select([_failed(steps, found), own.refused[found.step] > 0, looping], [0, 1, 2], 3)
    several = steps.journeys.steps[journey] > 1
    before = steps.screen[np.maximum(found.step - 1, 0)].astype("i8")
    pairs, code = np.unique((screen * len(names) + before)[several], return_inverse=True)
    ways = [(names[p // len(names)], names[p % len(names)]) for p in pairs.tolist()]
    parts = (("exit", EXITS, steps.journeys.exit[journey]), ("last", MOVES, own.move[found.step]))
    return joined(
        [
            named("visits", names, steps.screen[visits], own.journey[visits]),
            named("exits", names, screen, journey),
            named("true", names, screen[true], journey[true]),
            *(
                cells([(kind, a, b) for a in names for b in of], screen * len(of) + what, journey)
                for kind, of, what in (*parts, ("why", LASTS, why))
            ),
            cells([("from", *way) for way in ways], code, journey[several]),
        ]
    )


def _failed(steps: Steps, found: Ends) -> NDArray[np.bool_]:
    """Ends on whose step a try of signing in or up failed, with none after it that went well."""
    columns, journeys = steps.log.columns, steps.journeys
    tries = np.flatnonzero(np.isin(columns["outcome"], (_OK, _FAILED)))
    if not len(tries):
        return np.zeros(len(found.step), bool)
    end = (journeys.first_row + journeys.rows)[found.journey]
    at = np.searchsorted(tries, end) - 1
    row = tries[np.maximum(at, 0)]
    on_step = (at >= 0) & (row >= steps.steps.first_row[found.step])
    return np.asarray(on_step & (columns["outcome"][row] == _FAILED))


def survivors(steps: Steps, inside: NDArray[np.bool_], most: int) -> NDArray[np.int64]:
    """How many journeys have at least 1, 2, … `most` steps; shape (most,)."""
    counts = np.bincount(np.minimum(steps.journeys.steps[inside], most), minlength=most + 1)
    return counts[::-1].cumsum()[::-1][1:]


_DEPTHS, _NUMBERS, _STARTS = 6, 12, 4
_KINDS = (_DEPTHS + 1) * _NUMBERS * _STARTS


def grouped(steps: Steps, inside: NDArray[np.bool_]) -> Groups:
    """Per screen and kind of step, how many steps there are, and how many of them true exits.

    A kind is a depth up to 6, a number in the journey by powers of two, and whether that began cold
    and had a link.
    """
    own, journeys = steps.steps, steps.journeys
    chosen = np.flatnonzero((inside & (journeys.exit != EXIT["cut"]))[own.journey])
    left = np.zeros(len(own.journey), bool)
    found = ends(steps, inside)
    left[found.step[found.true]] = True
    journey = own.journey[chosen]
    depth = np.minimum(steps.entries.depth[own.entry[chosen]], _DEPTHS).astype("i8")
    number = chosen - journeys.first_step[journey] + 1
    power = np.minimum(np.log2(number).astype("i8"), _NUMBERS - 1)
    linked = np.zeros(len(journeys.steps), bool)
    linked[own.journey[own.move == MOVE["link"]]] = True
    began = 2 * linked[journey] + (journeys.start_kind[journey] == 0)
    kind = (depth * _NUMBERS + power) * _STARTS + began
    key = steps.screen[chosen].astype("i8") * _KINDS + kind
    counts = np.bincount(key, minlength=1)
    lost = np.bincount(key[left[chosen]], minlength=len(counts))
    some = np.flatnonzero(counts).tolist()
    return {divmod(k, _KINDS): (int(counts[k]), int(lost[k])) for k in some}


def expected(groups: Groups, screens: int) -> NDArray[np.float64]:
    """True exits to be expected of each screen by the model; shape (screens,)."""
    result = np.zeros(screens)
    if not groups:
        return result
    screen, kind = np.array(list(groups), "i8").T
    steps, exits = np.array(list(groups.values()), "f8").T
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


def transitions(steps: Steps, inside: NDArray[np.bool_]) -> dict[tuple[int, int], int]:
    """How often a screen follows on another; −1 before the first, and −2 after a last."""
    own, size = steps.steps, len(steps.places.names) + 2
    journeys = steps.journeys
    chosen = np.flatnonzero((inside & (journeys.exit != EXIT["cut"]))[own.journey])
    screen = steps.screen[chosen].astype("i8") + 2
    first = journeys.first_step[own.journey[chosen]] == chosen
    before = np.where(first, 1, steps.screen[np.maximum(chosen - 1, 0)] + 2)
    out = (steps.screen[ends(steps, inside).step].astype("i8") + 2) * size
    keys, counts = np.unique(np.concatenate([before * size + screen, out]), return_counts=True)
    pairs = [(key // size - 2, key % size - 2) for key in keys.tolist()]
    return dict(zip(pairs, counts.tolist(), strict=True))


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
