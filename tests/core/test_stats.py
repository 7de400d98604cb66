"""Intervals against published values, and their coverage."""

from __future__ import annotations

import numpy as np
import pytest

from mossy_trail.core.stats import quartiles, share


def test_wilson_interval_of_published_cases() -> None:
    # Newcombe 1998, Statistics in Medicine 17:857–872, table I, method 3.
    for count, of, low, high in (
        (81, 263, 0.2553, 0.3662),
        (15, 148, 0.0624, 0.1605),
        (0, 20, 0.0, 0.1611),
        (1, 29, 0.0061, 0.1718),
    ):
        found = share(count, of)
        assert (found.low, found.high) == pytest.approx((low, high), abs=5e-5)


def test_wilson_interval_covers_the_true_share() -> None:
    dice = np.random.default_rng(1)
    for of, true in ((40, 0.5), (100, 0.1), (1000, 0.9)):
        counts = dice.binomial(of, true, 4000)
        intervals = [share(int(count), of) for count in counts]
        covered = np.mean([found.low <= true <= found.high for found in intervals])
        assert 0.93 < covered < 0.97


def test_quartiles() -> None:
    assert quartiles(np.array([])) is None
    found = quartiles(np.array([4, 1, 3, 2]))
    assert found is not None
    assert (found.first, found.median, found.third) == (1.75, 2.5, 3.25)
