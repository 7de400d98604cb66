"""Medians of what users took, held against each other, where users are what chance works on.

A median's interval is that of the share of values up to it, carried over to the values (R.
Woodruff, J. Am. Stat. Assoc. 47, 1952); that of a difference adds the two sides (G. Zou and A.
Donner, Stat. Med. 27, 2008). Whether two differ by chance is asked of their ranks, as the share of
values that lie up to the median of both (A. Mood, Introduction to the Theory of Statistics, 1950).
"""

from __future__ import annotations

from dataclasses import dataclass
from math import sqrt
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.measures.moments import Moments, moments_of
from mossy_trail.core.stats.clustered import Gap, gaps, standard_errors, times_of_error


@dataclass(frozen=True)
class Middle:
    """The median of `of` values of so many users, with its 95 % interval."""

    median: float
    of: int
    low: float
    high: float
    users: int


def middle(ranked: NDArray[Any], user: NDArray[np.int64]) -> Middle | None:
    """Of values in order, of shape (n,), and whose each is."""
    if not len(ranked):
        return None
    found = median_of(ranked)
    of = _up_to(ranked, user, np.zeros(len(ranked), "i8"), found, 1)
    users = int(of.users[0, 0])
    reach = float(times_of_error(of.users[0])[0] * standard_errors(of, 0)[0])
    low, high = (_ranked(ranked, min(max(0.5 + side, 0), 1)) for side in (-reach, reach))
    if users <= 1:
        low, high = float(ranked[0]), float(ranked[-1])
    return Middle(found, len(ranked), low, high, users)


def median_of(ranked: NDArray[Any]) -> float:
    """Of values in order, of shape (n,), one at the least."""
    half = len(ranked) // 2
    return float(ranked[half] + ranked[half - (len(ranked) % 2 == 0)]) / 2


def _ranked(ranked: NDArray[Any], share: float) -> float:
    place = share * (len(ranked) - 1)
    low = int(place)
    high = min(low + 1, len(ranked) - 1)
    return float(ranked[low] + (ranked[high] - ranked[low]) * (place - low))


def gap_of_medians(
    ranked: NDArray[Any], user: NDArray[np.int64], group: NDArray[np.int64]
) -> Gap | None:
    """Of values in order, the median of group 0 less that of group 1."""
    one, other = (middle(ranked[group == code], user[group == code]) for code in (0, 1))
    if one is None or other is None:
        return None
    ranks = gaps(_up_to(ranked, user, group, median_of(ranked), 2)).at(0)
    assert ranks is not None
    return between(one, other, ranks)


def between(one: Middle, other: Middle, ranks: Gap) -> Gap:
    """The first less the second; `ranks` are of the shares of values up to the median of both."""
    low = sqrt((one.median - one.low) ** 2 + (other.high - other.median) ** 2)
    high = sqrt((one.high - one.median) ** 2 + (other.median - other.low) ** 2)
    found = one.median - other.median
    return Gap(found, found - low, found + high, ranks.p)


def _up_to(
    ranked: NDArray[Any],
    user: NDArray[np.int64],
    group: NDArray[np.int64],
    limit: float,
    groups: int,
) -> Moments:
    """Values up to the limit as one cell, of all values."""
    least = int(user.min())
    size = (int(user.max()) - least + 1) * groups
    at = (user - least) * groups + group
    below = int(np.searchsorted(ranked, limit, side="right"))
    x = np.bincount(at[:below], minlength=size).astype("f8").reshape(1, -1, groups)
    y = np.bincount(at, minlength=size).astype("f8").reshape(1, -1, groups)
    return moments_of(x, y, np.zeros(1, "i8"))
