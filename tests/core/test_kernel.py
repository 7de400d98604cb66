"""Kernels that are compiled into their callers alone."""

import numpy as np
import pytest

from mossy_trail.core.kernel import inner_kernel, kernel, rare_kernel

FEW = 3


@inner_kernel
def _more(number: int, by: int) -> int:
    return number + by


@rare_kernel
def _twice(number: int) -> int:
    return _more(number, number)


@kernel
def _summed(small: np.ndarray, large: np.ndarray) -> int:
    found = _more(0, FEW)
    for i in range(len(small)):
        found += _twice(small[i]) + _more(large[i], -1)
    return found


def test_is_what_python_makes_of_it_for_all_types_of_numbers() -> None:
    small, large = np.array([100, -100, 127], "i1"), np.array([2**40, -5, 0])
    whole = [[int(n) for n in numbers] for numbers in (small, large)]
    expected = FEW + 2 * sum(whole[0]) + sum(whole[1]) - len(whole[1])
    assert _summed(small, large) == expected
    assert _summed(small.astype("i4"), large) == expected


def test_is_one_function_for_all_types_of_numbers() -> None:
    _summed(np.zeros(1, "u1"), np.zeros(1, "i4"))
    assert [len(inner.overloads) for inner in (_more, _twice)] == [1, 1]  # type: ignore[attr-defined]


def test_says_that_it_is_not_to_be_called() -> None:
    with pytest.raises(TypeError, match="_more is there for kernels to call"):
        _more(1, 2)
