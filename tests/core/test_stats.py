"""Intervals hold what they say they hold: 95 times in 100."""

from __future__ import annotations

import numpy as np
import pytest

from mossy_trail.core.stats.intervals import difference, quartiles, share


@pytest.mark.parametrize(("p", "n"), [(0.02, 60), (0.18, 40), (0.5, 30), (0.9, 200), (0.97, 400)])
def test_an_interval_of_a_share_covers_the_truth(p: float, n: int) -> None:
    counts = np.random.default_rng(5).binomial(n, p, 4000)
    found = [share(int(count), n) for count in counts]
    assert 0.92 < np.mean([one.low <= p <= one.high for one in found]) < 0.99
    assert share(0, n).low == 0 < share(0, n).high < 1
    assert share(n, n).high == pytest.approx(1)


@pytest.mark.parametrize(("p", "q", "n", "m"), [(0.2, 0.2, 60, 90), (0.05, 0.3, 80, 40)])
def test_an_interval_of_a_difference_covers_the_truth(p: float, q: float, n: int, m: int) -> None:
    dice = np.random.default_rng(6)
    pairs = zip(dice.binomial(n, p, 4000), dice.binomial(m, q, 4000), strict=True)
    found = [difference(share(int(a), n), share(int(b), m)) for a, b in pairs]
    covered = [one.low <= p - q <= one.high for one in found if one]
    assert len(covered) == 4000
    assert 0.92 < np.mean(covered) < 0.985
    assert difference(share(0, 0), share(1, 2)) is None


def test_a_known_difference_has_the_published_interval() -> None:
    """56 of 70 less 48 of 80: 0.0524 to 0.3339 by the method's own example."""
    found = difference(share(56, 70), share(48, 80))
    assert found
    assert (found.low, found.high) == pytest.approx((0.0524, 0.3339), abs=5e-4)


@pytest.mark.parametrize("size", [1, 2, 3, 4, 5, 8, 1001, 3999, 4000, 4001, 4002, 4003, 9000])
@pytest.mark.parametrize("most", [3, 10**9])
def test_quartiles_are_those_of_all_values_in_order(size: int, most: int) -> None:
    """Whether the values are put in order, or sought one by one as there are many."""
    values = np.random.default_rng(size).integers(0, most, size)
    found = quartiles(values)
    assert found
    ours = (found.first, found.median, found.third)
    assert ours == pytest.approx(np.percentile(values, [25, 50, 75]), rel=1e-12)
    assert quartiles(values[:0]) is None
