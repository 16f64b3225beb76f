"""What formulas are told of the layers they name, and what types their results have."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

import numpy as np

from zembrel.expression.formula import Formula
from zembrel.expression.tree import TRUTH, Arithmetic, Call, Constant, Node, Sign

_WHOLE = ("uint8", "int8", "uint16", "int16", "uint32", "int32", "uint64", "int64")


class Operand(NamedTuple):
    """What a formula knows of a name: type of cells, unit, and codes of classes by their names."""

    type: str
    unit: str = ""
    codes: Mapping[str, int] = {}


def type_of(formula: Formula, known: Mapping[str, Operand]) -> str:
    """The cell type that holds a result: of conditions and whole constants the smallest, else floats."""
    values = _values(formula.tree)
    if values is not None:
        return whole_type(min(values), max(values))
    return "float32" if all(_short(known[name].type) for name in formula.names) else "float64"


def whole_type(low: int, high: int) -> str:
    """The smallest type of whole numbers that holds both; floats if none does."""
    limits = ((kind, np.iinfo(kind)) for kind in _WHOLE)
    return next((kind for kind, held in limits if held.min <= low and high <= held.max), "float64")


def _short(kind: str) -> bool:
    return kind == "float32" or np.dtype(kind).itemsize <= 2


def _is_whole(node: Node) -> bool:
    """Whether a node gives whole numbers, whatever it is of."""
    return isinstance(node, Arithmetic) and node.sign == "//"


def _values(node: Node) -> frozenset[int] | None:
    """The whole numbers that a node can give, if these are few and known."""
    if node.kind == TRUTH:
        return frozenset((0, 1))
    if isinstance(node, Constant) and isinstance(node.held, int):
        return frozenset((node.held,))
    if isinstance(node, Sign):
        inner = _values(node.part)
        return inner and (frozenset(-value for value in inner) if node.sign == "-" else inner)
    if isinstance(node, Arithmetic) and node.sign == "%" and _is_whole(node.left):
        most = node.right.held if isinstance(node.right, Constant) else None
        return frozenset((0, most - 1)) if isinstance(most, int) and most > 0 else None
    if isinstance(node, Call) and node.function == "where":
        yes, no = (_values(part) for part in node.operands[1:])
        return None if yes is None or no is None else yes | no
    return None
