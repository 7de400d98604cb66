"""Compiling loops over columns to machine code, cached on disk."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

from numba import njit
from numpy.typing import NDArray

from mossy_trail.core.into_callers import into_callers

Function = TypeVar("Function", bound=Callable[..., Any])


def read_only(column: NDArray[Any]) -> NDArray[Any]:
    """The same array as one that must not be written to.

    To the compiler that is another type: a column that is mapped from a file is always one, and
    a kernel that takes all columns so is compiled once.
    """
    view = column.view()
    view.flags.writeable = False
    return view


def kernel(function: Function) -> Function:
    """Compile a function over arrays; it runs without the interpreter's lock."""
    compiled: Any = njit(cache=True, nogil=True)(function)
    return compiled


def brief_kernel(function: Function) -> Function:
    """Compile a function that takes microseconds: it keeps the interpreter's lock, as getting that
    back from other threads takes much longer."""
    compiled: Any = njit(cache=True)(function)
    return compiled


def inner_kernel(function: Function) -> Function:
    """Compile a function that makes no arrays itself into whatever calls it.

    A call would hand over all arrays of a run, and cost more than most such functions do; so would
    the counting of references to them. One that returns an array is therefore for inner kernels
    alone: a plain one would let go of what nobody holds.
    """
    return _inner(function, inline=True)


def rare_kernel(function: Function) -> Function:
    """Compile an inner kernel that few rows come to by itself, as one that many places call."""
    return _inner(function, inline=False)


def _inner(function: Function, inline: bool) -> Function:
    options: dict[str, Any] = {"error_model": "numpy", "_nrt": False, "forceinline": inline}
    compiled: Any = into_callers(function, nogil=True, **options)
    return compiled
