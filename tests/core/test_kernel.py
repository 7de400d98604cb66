"""Kernels that are compiled into their callers alone."""

import ast
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest

import mossy_trail.core
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


NUMBERS = {"int", "bool", "float", "None", "Any", "np.uint64", "tuple[int, int]"}


def _kernels(tree: ast.Module) -> Iterator[tuple[str, ast.FunctionDef]]:
    for function in ast.walk(tree):
        if isinstance(function, ast.FunctionDef):
            for decorator in function.decorator_list:
                yield ast.unparse(decorator), function


def test_only_numbers_come_from_inner_kernels_to_plain_ones() -> None:
    """An array would be let go of while it is in use, as references to it were never counted."""
    files = Path(mossy_trail.core.__file__).parent.rglob("*.py")
    kernels = [each for file in files for each in _kernels(ast.parse(file.read_text()))]
    of_arrays = {
        function.name
        for kind, function in kernels
        if kind in ("inner_kernel", "rare_kernel") and ast.unparse(function.returns) not in NUMBERS
    }
    called = {
        call.func.id
        for kind, function in kernels
        if kind == "kernel"
        for call in ast.walk(function)
        if isinstance(call, ast.Call) and isinstance(call.func, ast.Name)
    }
    assert "_reading" in of_arrays
    assert "take_row" in called
    assert not of_arrays & called
