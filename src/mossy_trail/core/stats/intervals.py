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
    middle, last = len(values) // 2, len(values) - 1
    if len(values) < _FEW:
        return Quartiles(*_in_order(np.sort(values))) if len(values) else None
    halves = np.partition(values, middle)
    low, high = halves[:middle], halves[middle:]
    return Quartiles(
        _ranked(low, last / 4),
        float(high[0]) if last % 2 == 0 else (float(low.max()) + float(high[0])) / 2,
        _ranked(high, last * 3 / 4 - middle),
    )


_FEW = 4000
"""More values are not put in order as a whole: the outer quartiles are sought in the halves that
the middle one leaves."""


def _in_order(values: NDArray[Any]) -> list[float]:
    found, last = [], len(values) - 1
    for quarter in (1, 2, 3):
        place, rest = divmod(last * quarter, 4)
        here, after = float(values[place]), float(values[min(place + 1, last)])
        found.append(here + (after - here) * (rest / 4))
    return found


def _ranked(values: NDArray[Any], rank: float) -> float:
    """What stands at this place of the values in order, between two of them if it does."""
    place = int(rank)
    found = np.partition(values, place)
    here, after = float(found[place]), float(found[place + 1 :].min(initial=found.max()))
    return here + (after - here) * (rank - place)
