"""Where a series of days changes its level.

The split is taken whose two sides differ most in units of the spread between days, and what chance
makes of that is told by the same series in random orders (J. Antoch and M. Hušková, Stat. Probab.
Lett. 53, 2001); no further ones are tried where many of the first are as clear (J. Besag and P.
Clifford, Biometrika 78, 1991). Each side is then looked at by itself (A. Scott and M. Knott,
Biometrics 30, 1974).
"""

from __future__ import annotations

from functools import lru_cache
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

ORDERS = 999
FIRST_ORDERS, ENOUGH = 99, 10
"""Where so many of the first orders have a split as clear, chance is told by these alone."""
SHORTEST = 3
"""Days on each side of a split, at the least."""
FEWEST = 8
"""Days under which no change is looked for."""
CHANCE = 0.05
_SEED = 20_260_501


class Split(NamedTuple):
    """The day that the new level begins with, and how likely chance alone makes as clear a one."""

    at: int
    p: float


def best_split(value: NDArray[np.float64], weight: NDArray[np.float64]) -> Split | None:
    """The clearest split of a series; None where it is too short, or all alike.

    Parameters
    ----------
    value, weight : the level of each day and how much it counts, more than nothing; shape (days,).
    """
    if len(value) < FEWEST or np.ptp(value) == 0:
        return None
    clear = _clearness(value[None], weight[None])[0]
    at = int(np.argmax(clear))
    # By as much as the rounding of sums in another order may tell equal ones apart.
    found = float(clear[at]) * (1 - 1e-9)
    as_clear, tried = _as_clear(value, weight, _orders(len(value))[:FIRST_ORDERS], found)
    if as_clear < ENOUGH:
        more, rest = _as_clear(value, weight, _orders(len(value))[FIRST_ORDERS:], found)
        as_clear, tried = as_clear + more, tried + rest
    return Split(at + SHORTEST, (1 + as_clear) / (1 + tried))


def _as_clear(
    value: NDArray[np.float64], weight: NDArray[np.float64], orders: NDArray[np.int64], found: float
) -> tuple[int, int]:
    """In how many of the orders a split is as clear, and how many there are."""
    others = _clearness(value[orders], weight[orders]).max(1)
    return int((others >= found).sum()), len(orders)


@lru_cache(64)
def _orders(days: int) -> NDArray[np.int64]:
    """Random orders of so many days, the same ones each time; shape (orders, days)."""
    dice = np.random.default_rng(_SEED)
    return dice.permuted(np.tile(np.arange(days), (ORDERS, 1)), axis=1)


def _clearness(value: NDArray[np.float64], weight: NDArray[np.float64]) -> NDArray[np.float64]:
    """Per series and split the squared difference of the sides by what it is to be by chance."""
    sums, sizes = np.cumsum(value * weight, 1), np.cumsum(weight, 1)
    total, size = sums[:, -1:], sizes[:, -1:]
    left, own = sums[:, SHORTEST - 1 : -SHORTEST], sizes[:, SHORTEST - 1 : -SHORTEST]
    gap = left / own - (total - left) / (size - own)
    between = gap**2 * own * (size - own) / size
    whole = (weight * (value - total / size) ** 2).sum(1, keepdims=True)
    return np.asarray(between / np.maximum(whole - between, 1e-12 * whole))


def splits(value: NDArray[np.float64], weight: NDArray[np.float64]) -> list[Split]:
    """All changes of level, in order; each of a stretch whose own change is beyond chance."""
    found: list[Split] = []
    stretches = [(0, len(value))]
    while stretches:
        begin, end = stretches.pop()
        own = best_split(value[begin:end], weight[begin:end])
        if own is None or own.p > CHANCE:
            continue
        at = begin + own.at
        found.append(Split(at, own.p))
        stretches += [(begin, at), (at, end)]
    return sorted(found)
