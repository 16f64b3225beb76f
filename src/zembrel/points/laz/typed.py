"""Kernels of one signature each, which get what they work on by pointer.

They are compiled, or loaded, when the first of them is called.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from threading import RLock
from typing import Any

from llvmlite import ir
from numba import njit, types
from numba.extending import intrinsic

import zembrel.compiling  # noqa: F401 which says that something is compiled

STATE, BYTES, MODELS = types.CPointer(types.int64), types.CPointer(types.uint8), types.CPointer(types.uint16)
INT = types.int64
READONLY = types.Array(types.uint8, 1, "C", readonly=True)  # data as they came

_compiling = RLock()


def kernel(result: Any, *arguments: Any, inlined: bool = False) -> Callable[[Any], Any]:
    """An inner kernel, which only kernels call: compiled for these types when the first of them is."""

    def made(function: Any) -> Any:
        dispatcher = njit(
            nogil=True,
            cache=True,
            error_model="numpy",
            forceinline=inlined,
            no_cpython_wrapper=True,
            no_cfunc_wrapper=True,
        )(function)
        resolve = dispatcher.get_call_template

        def compiled_first(args: Any, kws: Any) -> Any:
            _compiled(dispatcher, result(*arguments))
            return resolve(args, kws)

        dispatcher.get_call_template = compiled_first
        return dispatcher

    return made


def entry(result: Any, *arguments: Any) -> Callable[[Any], Any]:
    """A kernel that Python calls, without the interpreter's lock: compiled or loaded at its first call."""

    def made(function: Any) -> Any:
        dispatcher = njit(nogil=True, cache=True, error_model="numpy", no_cfunc_wrapper=True)(function)

        @wraps(function)
        def call(*given: Any) -> Any:
            _compiled(dispatcher, result(*arguments))
            return dispatcher(*given)

        return call

    return made


def _compiled(dispatcher: Any, signature: Any) -> None:
    """Compile for the one signature, if that is not done; no other is ever made."""
    if not dispatcher.overloads:
        with _compiling:
            if not dispatcher.overloads:
                dispatcher.compile(signature)
                dispatcher.disable_compile()


@intrinsic
def leading_zeros(_context, number):
    """Zero bits before the first one of 64: a single instruction, of which Python has no name."""

    def generate(_target, builder, _signature, arguments):
        return builder.ctlz(arguments[0], ir.IntType(1)(0))

    return INT(INT), generate


@intrinsic
def onward(_context, pointer, numbers):
    """The pointer that many numbers further on."""

    def generate(_target, builder, _signature, arguments):
        return builder.gep(arguments[0], [arguments[1]])

    kind = types.CPointer(pointer.dtype)
    return kind(kind, INT), generate
