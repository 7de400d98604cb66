"""Leaving it to those who call a kernel to optimise it.

Numba makes machine code of each function by itself, with all that it calls compiled into it anew:
where functions call functions that call functions, most of the time goes to code that nobody runs.
What is only ever called by other kernels is handed to them here as it was written, to be optimised
and made machine code once, as a part of the outermost.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NoReturn

from numba import njit
from numba.core.codegen import JITCodeLibrary
from numba.core.compiler import CompilerBase, DefaultPassBuilder
from numba.core.compiler_machinery import LoweringPass, register_pass
from numba.core.typed_passes import NativeLowering, NopythonRewrites
from numba.core.types import Type, int8, int16, int32, int64, uint8, uint16, uint32, unliteral

_NARROW = frozenset({int8, int16, int32, uint8, uint16, uint32})


class _Source(JITCodeLibrary):
    """A function and what it calls, linked, and neither optimised nor made machine code."""

    def finalize(self) -> None:
        for library in dict.fromkeys(self._linking_libraries):
            self._final_module.link_in(library._get_module_for_linking(), preserve=True)
        self._finalized = True


class _Pass(LoweringPass):
    def __init__(self) -> None:  # Numba has none, and asks for one
        super().__init__()


@register_pass(mutates_CFG=False, analysis_only=False)
class _IntoSource(_Pass):
    _name = "into_source"

    def run_pass(self, state: Any) -> bool:
        state.library = _Source(state.targetctx.codegen(), state.func_id.func_qualname)
        state.flags.no_compile = True
        return True


@register_pass(mutates_CFG=False, analysis_only=False)
class _ToCallers(_Pass):
    _name = "to_callers"

    def run_pass(self, state: Any) -> bool:
        known_by = object()
        state.targetctx.insert_user_function(known_by, state.cr.fndesc, [state.library])
        state.cr = state.cr._replace(cfunc=known_by)
        return True


class _Pipeline(CompilerBase):
    def define_pipelines(self) -> list[Any]:
        passes = DefaultPassBuilder.define_nopython_pipeline(self.state)
        passes.add_pass_after(_IntoSource, NopythonRewrites)
        passes.add_pass_after(_ToCallers, NativeLowering)
        passes.finalize()
        return [passes]


def _common(kind: Type) -> Type:
    """The type that a number is handed over as, so that there is one function for all of them."""
    kind = unliteral(kind)
    return int64 if kind in _NARROW else kind


def into_callers(function: Callable[..., Any], **options: Any) -> Any:
    """Compile a function for other kernels to call, as `njit` does; Python cannot call it."""

    def refuse(*_: Any, **__: Any) -> NoReturn:
        raise TypeError(f"{function.__qualname__} is there for kernels to call.")

    options |= {"no_cpython_wrapper": True, "no_cfunc_wrapper": True}
    compiled: Any = njit(pipeline_class=_Pipeline, **options)(function)
    compiled._insert = lambda *_: None  # there is no machine code that Python could be led to
    compiled._compile_for_args = refuse
    template_of = compiled.get_call_template
    compiled.get_call_template = lambda args, kws: template_of(tuple(map(_common, args)), kws)
    return compiled
