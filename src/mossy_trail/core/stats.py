"""Intervals and quantiles."""

from __future__ import annotations

from dataclasses import dataclass
from math import sqrt
from typing import Any

import numpy as np
from numpy.typing import NDArray

Z95 = 1.959963984540054
SMALL = 30
"""Below this n a figure is too small to tell."""


@dataclass(frozen=True)
class Share:
    """`count` of `of`, with the 95 % interval of the share it stands for."""

    count: int
    of: int
    low: float
    high: float


def share(count: int, of: int) -> Share:
    """A share with its Wilson score interval (Wilson 1927, JASA 22:209–212).

    With nothing to count from, the interval is the whole of 0 to 1.
    """
    if of == 0:
        return Share(count, of, 0.0, 1.0)
    p, z2 = count / of, Z95 * Z95
    middle = (p + z2 / (2 * of)) / (1 + z2 / of)
    reach = Z95 / (1 + z2 / of) * sqrt(p * (1 - p) / of + z2 / (4 * of * of))
    return Share(count, of, max(0.0, middle - reach), min(1.0, middle + reach))


@dataclass(frozen=True)
class Difference:
    """One share less another, with the 95 % interval of what it stands for."""

    difference: float
    low: float
    high: float


def difference(one: Share, other: Share) -> Difference | None:
    """Of independent shares, with Newcombe's hybrid score interval (Newcombe 1998, Stat. Med.
    17:873–890, method 10); None where one has nothing to count from."""
    if not one.of or not other.of:
        return None
    p, q = one.count / one.of, other.count / other.of
    low = sqrt((p - one.low) ** 2 + (other.high - q) ** 2)
    high = sqrt((one.high - p) ** 2 + (q - other.low) ** 2)
    return Difference(p - q, p - q - low, p - q + high)


@dataclass(frozen=True)
class Quartiles:
    """A quarter of the values lies below `first`, half below `median`, a quarter above `third`."""

    first: float
    median: float
    third: float


def quartiles(values: NDArray[Any]) -> Quartiles | None:
    """Of values of shape (n,), by linear interpolation (Hyndman & Fan 1996, type 7)."""
    if not len(values):
        return None
    return Quartiles(*map(float, np.percentile(values, [25, 50, 75])))
