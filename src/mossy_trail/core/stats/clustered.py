"""Two groups of journeys held against each other, where users are what chance works on.

A share is a ratio of sums over users; its variance is that of the sum of what each user adds to it
(the delta method; W. Cochran, Sampling Techniques, 3rd ed., 1977, ch. 6). Users may be in both
groups: what they add to the difference is then taken as one. Intervals are Wilson's on the size
that would have as much variance if all were independent, and Newcombe's of their difference, with
the correlation of the two (G. Zou and A. Donner, Stat. Med. 27, 2008).

Within like strata, the difference has the weights of Cochran (Biometrics 10, 1954) and of Mantel
and Haenszel, and its variance is that of what each user adds to it over all strata (S. Greenland
and J. Robins, Biometrics 41, 1985, for independent ones).
"""

from __future__ import annotations

from dataclasses import dataclass
from math import sqrt

import numpy as np
from numpy.typing import NDArray
from scipy.stats import hypergeom, t

from mossy_trail.core.measures.moments import Moments

FEWEST_USERS = 30
"""Users in each group under which nothing is said of a difference."""
FEWEST_HAVING = 8
"""Users who have what is counted, and who lack it, under which nothing is said."""
_FEW = 20
"""Users to be expected on a side under which the exact test of users has to agree."""


@dataclass(frozen=True)
class Estimate:
    """A share of a group: `count` of `of`, its 95 % interval, and how many users it is of."""

    count: int
    of: int
    low: float
    high: float
    users: int

    @property
    def share(self) -> float:
        return self.count / self.of if self.of else 0.0


@dataclass(frozen=True)
class Gap:
    """The first share less the second, with its 95 % interval; `p` is that of no difference, None
    where there are too few to tell."""

    difference: float
    low: float
    high: float
    p: float | None


def estimates(of: Moments, cell: int) -> list[Estimate]:
    """The share in each slot, whatever the others."""
    return [_estimate(of, cell, slot) for slot in range(of.x.shape[1])]


def _estimate(of: Moments, cell: int, slot: int) -> Estimate:
    count, base = float(of.x[cell, slot]), float(of.y[cell, slot])
    users = int(of.users[cell, slot])
    if not base:
        return Estimate(0, 0, 0.0, 1.0, users)
    p = count / base
    spread, inner = standard_error(of, cell, slot) ** 2, p * (1 - p)
    effective = base if spread <= inner / base else inner / spread
    if not inner:
        effective = min(base, users)
    low, high = _wilson(p, effective, times_of_error(users))
    return Estimate(int(count), int(base), low, high, users)


def standard_error(of: Moments, cell: int, slot: int) -> float:
    """Of the share in a slot."""
    base = float(of.y[cell, slot])
    weights = np.zeros(of.x.shape[1])
    weights[slot] = 1 / base
    shares = np.full(len(weights), of.x[cell, slot] / base)
    return sqrt(_variance(of, cell, weights, shares) * _corrected(int(of.users[cell, slot])))


def _wilson(p: float, n: float, z: float) -> tuple[float, float]:
    z2 = z * z
    middle = (p + z2 / (2 * n)) / (1 + z2 / n)
    reach = z / (1 + z2 / n) * sqrt(max(p * (1 - p), 0) / n + z2 / (4 * n * n))
    return max(0.0, middle - reach), min(1.0, middle + reach)


def times_of_error(users: int) -> float:
    """How many standard errors a 95 % interval reaches to each side."""
    return float(t.ppf(0.975, max(users - 1, 1)))


def _corrected(users: int) -> float:
    return users / (users - 1) if users > 1 else 1.0


def _variance(
    of: Moments, cell: int, weights: NDArray[np.float64], p: NDArray[np.float64]
) -> float:
    """Of the sum over users of weights · (x − p y)."""
    down = -weights * p
    found = weights @ of.xx[cell] @ weights + 2 * weights @ of.xy[cell] @ down
    return max(float(found + down @ of.yy[cell] @ down), 0.0)


def gap(of: Moments, cell: int) -> Gap | None:
    """Slot 0 less slot 1; None where one has nothing to count from."""
    left, right = _estimate(of, cell, 0), _estimate(of, cell, 1)
    if not left.of or not right.of:
        return None
    p, q = left.share, right.share
    weights, shares = np.array([1 / left.of, -1 / right.of]), np.array([p, q])
    alone = [_variance(of, cell, weights * side, shares) for side in ([1, 0], [0, 1])]
    both = _variance(of, cell, weights, shares)
    together = sqrt(alone[0] * alone[1])
    same = (alone[0] + alone[1] - both) / (2 * together) if together else 0.0
    a, b, c, d = p - left.low, right.high - q, left.high - p, q - right.low
    low = p - q - sqrt(max(a * a + b * b - 2 * same * a * b, 0.0))
    high = p - q + sqrt(max(c * c + d * d - 2 * same * c * d, 0.0))
    return Gap(p - q, max(low, -1.0), min(high, 1.0), _p_of(of, cell, weights))


def _p_of(of: Moments, cell: int, weights: NDArray[np.float64]) -> float | None:
    """By the score test, in which both groups have the share of all."""
    users = of.users[cell]
    having, lacking = of.having[cell], of.lacking[cell]
    if users.min() < FEWEST_USERS or min(having.sum(), lacking.sum()) < FEWEST_HAVING:
        return None
    pooled = of.x[cell].sum() / of.y[cell].sum()
    spread = _variance(of, cell, weights, np.full(2, pooled)) * _corrected(int(users.min()))
    if not spread:
        return None
    score = (of.x[cell] * weights).sum() / sqrt(spread)
    found = 2 * float(t.sf(abs(score), int(users.min()) - 1))
    for told in (having, lacking):
        if (told.sum() * users / users.sum()).min() < _FEW:
            found = max(found, _exact(told, users))
    return min(found, 1.0)


def _exact(told: NDArray[np.int64], users: NDArray[np.int64]) -> float:
    """R. Fisher's test of two groups of users by whether each is told of (The Design of
    Experiments, 1935), twice the smaller side."""
    spread = hypergeom(int(users.sum()), int(told.sum()), int(users[0]))
    return float(2 * min(spread.cdf(told[0]), spread.sf(told[0] - 1)))


def gap_within(of: Moments, cell: int, strata: int) -> Gap | None:
    """The like-for-like difference: slots are the strata of the first group, then of the second.

    None where no stratum has both groups.
    """
    y, x = of.y[cell], of.x[cell]
    one, other = y[:strata], y[strata:]
    shared = (one > 0) & (other > 0)
    if not shared.any():
        return None
    share = np.divide(x, y, out=np.zeros_like(x), where=y > 0)
    weight = np.where(shared, one * other / np.maximum(one + other, 1), 0)
    weight /= weight.sum()
    within = np.append(weight, -weight) / np.maximum(y, 1)
    found = float(weight @ (share[:strata] - share[strata:]))
    users = int(min(of.users[cell][:strata].sum(), of.users[cell][strata:].sum()))
    error = sqrt(_variance(of, cell, within, share) * _corrected(users))
    reach = times_of_error(users) * error
    p = None
    if users >= FEWEST_USERS and error:
        p = 2 * float(t.sf(abs(found) / error, users - 1))
    return Gap(found, max(found - reach, -1.0), min(found + reach, 1.0), p)


def adjusted(p: NDArray[np.float64]) -> NDArray[np.float64]:
    """Each p for how many were looked at: the rate of false ones among all as small as it
    (Y. Benjamini and Y. Hochberg, J. R. Stat. Soc. B 57, 1995). Shape (tests,)."""
    order = np.argsort(p)[::-1]
    ranked = p[order] * len(p) / np.arange(len(p), 0, -1)
    found = np.empty(len(p))
    found[order] = np.minimum(np.minimum.accumulate(ranked), 1)
    return found
