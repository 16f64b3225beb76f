"""The functions of expressions: what each is called, takes and gives."""

from __future__ import annotations

import operator
from collections.abc import Callable
from functools import reduce
from typing import Any, NamedTuple

import numpy as np

Operation = Callable[..., Any]
WIDEST = 256  # cells, the farthest reach of a statistic of what lies around


class Function(NamedTuple):
    """One function: what it does with arrays, and how many operands it takes at least and at most.

    risky: whether finite numbers can give what is not finite.
    """

    operation: Operation
    least: int = 1
    most: int = 1
    risky: bool = False


def _has_value(values: Any) -> Any:
    """True where there is a value at all: a number that is one, a word of some letters."""
    held = np.asarray(values)
    return held != "" if held.dtype.kind == "U" else held == held


def _elementwise(pair: Operation) -> Operation:
    return lambda *operands: reduce(pair, operands)


FUNCTIONS: dict[str, Function] = {
    "abs": Function(np.abs),
    "sqrt": Function(np.sqrt, risky=True),
    "log": Function(np.log, risky=True),
    "log10": Function(np.log10, risky=True),
    "exp": Function(np.exp, risky=True),
    "sin": Function(np.sin),
    "cos": Function(np.cos),
    "tan": Function(np.tan),
    "asin": Function(np.arcsin, risky=True),
    "acos": Function(np.arccos, risky=True),
    "atan": Function(np.arctan),
    "atan2": Function(np.arctan2, 2, 2),
    "hypot": Function(np.hypot, 2, 2),
    "radians": Function(np.radians),
    "degrees": Function(np.degrees),
    "floor": Function(np.floor),
    "ceil": Function(np.ceil),
    "round": Function(np.rint),
    "sign": Function(np.sign),
    "min": Function(_elementwise(np.minimum), 2, 16),
    "max": Function(_elementwise(np.maximum), 2, 16),
    "clamp": Function(lambda value, low, high: np.minimum(np.maximum(value, low), high), 3, 3),
    "where": Function(np.where, 3, 3),
    "valid": Function(_has_value),
}
PAIRED = {
    "min": np.minimum,
    "max": np.maximum,
}  # of functions that take any number of operands, two at a time
AROUND = tuple(
    f"{name}_around" for name in ("mean", "sum", "min", "max", "range", "deviation", "median", "count")
)
# of one number and of bits that are counted from 0: read as divisions by powers of two
BITS = {"bit": 2, "bits": 3}
HIGHEST_BIT = 52  # that a number of double precision holds exactly
MEDIAN_WIDEST = 8  # cells, the farthest reach of a median

ARITHMETIC: dict[str, Operation] = {
    "+": operator.add, "-": operator.sub, "*": operator.mul, "/": np.true_divide, "//": np.floor_divide,
    "%": np.mod, "**": np.float_power,
}  # fmt: skip
COMPARISONS: dict[str, Operation] = {
    "==": operator.eq, "!=": operator.ne, "<": operator.lt, "<=": operator.le, ">": operator.gt,
    ">=": operator.ge, "in": np.isin, "not in": lambda value, held: ~np.isin(value, held),
}  # fmt: skip
