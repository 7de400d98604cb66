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
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray
from scipy.special import bdtrc, stdtr, stdtrit

from mossy_trail.core.measures.moments import Moments

Column = NDArray[np.float64]
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


class Estimates(NamedTuple):
    """Shares of cells in slots, whatever the other slots; shape (cells, slots)."""

    times: Column
    of: Column
    share: Column
    low: Column
    high: Column
    users: NDArray[np.int64]

    def at(self, cell: int, slot: int) -> Estimate:
        numbers = (int(self.times[cell, slot]), int(self.of[cell, slot]))
        ends = float(self.low[cell, slot]), float(self.high[cell, slot])
        return Estimate(*numbers, *ends, int(self.users[cell, slot]))


class Gaps(NamedTuple):
    """Differences of cells; NaN where a side has nothing to count from, `p` also where there are
    too few. Shape (cells,)."""

    difference: Column
    low: Column
    high: Column
    p: Column

    def at(self, cell: int) -> Gap | None:
        found, low, high, p = (float(column[cell]) for column in self)
        return None if np.isnan(found) else Gap(found, low, high, None if np.isnan(p) else p)


def estimates(of: Moments) -> Estimates:
    """Shares with Wilson's intervals on the size that has as much variance."""
    share = _over(of.x, of.y)
    inner = share * (1 - share)
    spread = np.stack([standard_errors(of, slot) ** 2 for slot in range(of.x.shape[1])], 1)
    size = np.where(spread > 0, np.minimum(of.y, _over(inner, spread)), of.y)
    size = np.where(inner > 0, size, np.minimum(of.y, of.users))
    low, high = _wilson(share, np.maximum(size, 1e-9), times_of_error(of.users))
    some = of.y > 0
    ends = np.where(some, low, 0), np.where(some, high, 1)
    return Estimates(of.x, of.y, share, *ends, of.users)


def standard_errors(of: Moments, slot: int) -> Column:
    """Of the share in a slot; shape (cells,)."""
    weights = np.zeros_like(of.x)
    weights[:, slot] = _over(np.ones(len(of.x)), of.y[:, slot])
    share = np.repeat(_over(of.x, of.y)[:, slot, None], of.x.shape[1], 1)
    return np.sqrt(_variance(of, weights, share) * _corrected(of.users[:, slot]))


def _over(part: NDArray[Any], whole: NDArray[Any]) -> Column:
    return np.divide(part, whole, out=np.zeros(np.shape(part)), where=whole > 0)


def _wilson(p: Column, n: Column, z: Column) -> tuple[Column, Column]:
    z2 = z * z
    middle = (p + z2 / (2 * n)) / (1 + z2 / n)
    reach = z / (1 + z2 / n) * np.sqrt(p * (1 - p) / n + z2 / (4 * n * n))
    return np.maximum(middle - reach, 0), np.minimum(middle + reach, 1)


def times_of_error(users: NDArray[Any]) -> Column:
    """How many standard errors a 95 % interval reaches to each side."""
    return np.asarray(stdtrit(np.maximum(users - 1, 1), 0.975), "f8")


def _corrected(users: NDArray[Any]) -> Column:
    return np.where(users > 1, users / np.maximum(users - 1, 1), 1.0)


def _variance(of: Moments, weights: Column, p: Column) -> Column:
    """Of the sum over users of weights · (x − p y), per cell."""
    down = -weights * p
    found = _form(weights, of.xx, weights) + 2 * _form(weights, of.xy, down)
    return np.maximum(found + _form(down, of.yy, down), 0)


def _form(left: Column, square: Column, right: Column) -> Column:
    return np.asarray(np.einsum("ci,cij,cj->c", left, square, right))


def gaps(of: Moments, shares: Estimates | None = None) -> Gaps:
    """Slot 0 less slot 1; `shares` are their estimates, where these are known."""
    own = shares or estimates(of)
    (p, q), users = own.share.T, of.users
    weights = _over(np.ones_like(of.y), of.y) * [1, -1]
    alone = [_variance(of, weights * side, own.share) for side in ([1, 0], [0, 1])]
    both = _variance(of, weights, own.share)
    same = _over(alone[0] + alone[1] - both, 2 * np.sqrt(alone[0] * alone[1]))
    (left_low, right_low), (left_high, right_high) = own.low.T, own.high.T
    low = p - q - _joined(p - left_low, right_high - q, same)
    high = p - q + _joined(left_high - p, q - right_low, same)
    none = (of.y == 0).any(1)
    columns = (p - q, np.maximum(low, -1), np.minimum(high, 1), _p_of(of, weights, users))
    return Gaps(*(np.where(none, np.nan, column) for column in columns))


def _joined(one: Column, other: Column, same: Column) -> Column:
    return np.sqrt(np.maximum(one * one + other * other - 2 * same * one * other, 0))


def _p_of(of: Moments, weights: Column, users: NDArray[np.int64]) -> Column:
    """By the score test, in which both groups have the share of all."""
    fewest = users.min(1)
    having, lacking = of.having.sum(1), of.lacking.sum(1)
    told = (fewest >= FEWEST_USERS) & (np.minimum(having, lacking) >= FEWEST_HAVING)
    pooled = np.repeat(_over(of.x.sum(1), of.y.sum(1))[:, None], 2, 1)
    spread = _variance(of, weights, pooled) * _corrected(fewest)
    told &= spread > 0
    score = _over((of.x * weights).sum(1), np.sqrt(spread))
    found = np.asarray(2 * stdtr(np.maximum(fewest - 1, 1), -np.abs(score)))
    for some in (of.having, of.lacking):
        expected = some.sum(1, keepdims=True) * users / np.maximum(users.sum(1, keepdims=True), 1)
        few = told & (expected.min(1) < _FEW)
        found[few] = np.maximum(found[few], _exact(some[few], users[few]))
    return np.where(told, np.minimum(found, 1), np.nan)


def _exact(told: NDArray[np.int64], users: NDArray[np.int64]) -> Column:
    """R. Fisher's test of two groups of users by whether each is told of (The Design of
    Experiments, 1935), twice the smaller side."""
    from scipy.stats import hypergeom  # a second to import, which few questions need

    sizes = users.sum(1), told.sum(1), users[:, 0]
    one = hypergeom.cdf(told[:, 0], *sizes)
    return np.asarray(2 * np.minimum(one, hypergeom.sf(told[:, 0] - 1, *sizes)))


def gaps_within(of: Moments, strata: int) -> Gaps:
    """The like-for-like differences: slots are the strata of the first group, then of the second.

    NaN where no stratum has both groups.
    """
    share = _over(of.x, of.y)
    one, other = of.y[:, :strata], of.y[:, strata:]
    weight = _over(one * other, one + other)
    total = weight.sum(1, keepdims=True)
    weight = _over(weight, np.broadcast_to(total, weight.shape))
    within = np.concatenate([weight, -weight], 1) * _over(np.ones_like(of.y), of.y)
    found = (weight * (share[:, :strata] - share[:, strata:])).sum(1)
    users = np.minimum(of.users[:, :strata].sum(1), of.users[:, strata:].sum(1))
    error = np.sqrt(_variance(of, within, share) * _corrected(users))
    reach = times_of_error(users) * error
    p = 2 * stdtr(np.maximum(users - 1, 1), -_over(np.abs(found), error))
    told = (users >= FEWEST_USERS) & (error > 0)
    none = total[:, 0] == 0
    ends = np.maximum(found - reach, -1), np.minimum(found + reach, 1)
    columns = (found, *ends, np.where(told, p, np.nan))
    return Gaps(*(np.where(none, np.nan, column) for column in columns))


def adjusted(p: Column) -> Column:
    """Each p for how many were looked at: the rate of false ones among all as small as it
    (Y. Benjamini and Y. Hochberg, J. R. Stat. Soc. B 57, 1995). Shape (tests,)."""
    order = np.argsort(p)[::-1]
    ranked = p[order] * len(p) / np.arange(len(p), 0, -1)
    found = np.empty(len(p))
    found[order] = np.minimum(np.minimum.accumulate(ranked), 1)
    return found


def each_against_others(of: Moments) -> Moments:
    """Per slot all cells, with that one as the first slot and all others together as the second.

    Of shape (slots × cells, 2). Users of several of the others are counted in each of these.
    """
    size = of.x.shape[1]
    found = []
    for slot in range(size):
        sort = np.stack([np.arange(size) == slot, np.arange(size) != slot]).astype("f8")
        flat = (column @ sort.T for column in (of.x, of.y))
        squares = (sort @ square @ sort.T for square in (of.xx, of.xy, of.yy))
        counts = ((column @ sort.T).astype("i8") for column in (of.having, of.lacking, of.users))
        found.append(Moments(*flat, *squares, *counts))
    return Moments(*(np.concatenate(column) for column in zip(*found, strict=True)))


def p_beyond(of: Moments, norm: Column) -> Column:
    """How likely a share of at most `norm` gives one as high as that in slot 0; NaN where there
    are too few users to tell. Shape (cells,)."""
    base, users, having = of.y[:, 0], of.users[:, 0], of.having[:, 0]
    weights = np.zeros_like(of.x)
    weights[:, 0] = _over(np.ones(len(base)), base)
    levels = np.repeat(norm[:, None], of.x.shape[1], 1)
    error = np.sqrt(_variance(of, weights, levels) * _corrected(users))
    score = _over(_over(of.x[:, 0], base) - norm, error)
    each = np.minimum(_over(norm * base, users), 1)
    exact = np.where(users * norm < _FEW, bdtrc(having - 1, users, each), 0)
    found = np.maximum(stdtr(np.maximum(users - 1, 1), -score), exact)
    told = (users >= FEWEST_USERS) & (having >= FEWEST_HAVING)
    return np.asarray(np.where(told, found, np.nan))
