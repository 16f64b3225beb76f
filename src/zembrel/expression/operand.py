"""What formulas are told of the layers they name, and what types their results have."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

import numpy as np

from zembrel.expression.formula import Formula
from zembrel.expression.tree import TRUTH, Arithmetic, Call, Constant, Name, Node, Sign

_WHOLE = ("uint8", "int8", "uint16", "int16", "uint32", "int32", "uint64", "int64")


class Operand(NamedTuple):
    """What a formula knows of a name: type of cells, unit, and codes of classes by their names."""

    type: str
    unit: str = ""
    codes: Mapping[str, int] = {}


def type_of(formula: Formula, known: Mapping[str, Operand]) -> str:
    """The cell type that holds a result: the smallest of conditions and whole numbers chosen, else floats."""
    ends = whole_ends(formula.tree, known)
    if ends is not None:
        return whole_type(*ends)
    return "float32" if all(_short(known[name].type) for name in formula.names) else "float64"


def whole_type(low: int, high: int) -> str:
    """The smallest type of whole numbers that holds both; floats if none does."""
    limits = ((kind, np.iinfo(kind)) for kind in _WHOLE)
    return next((kind for kind, held in limits if held.min <= low and high <= held.max), "float64")


def _short(kind: str) -> bool:
    return kind == "float32" or np.dtype(kind).itemsize <= 2


def whole_ends(node: Node, known: Mapping[str, Operand]) -> tuple[int, int] | None:
    """The smallest and largest number that a node can give, if it chooses among whole numbers that one type
    holds: signs, `abs`, `where`, `min`, `max` and `clamp` of layers, constants and conditions.
    """
    if node.kind == TRUTH:
        return 0, 1
    match node:
        case Constant(held=int(value)):
            return value, value
        case Name():
            kind = np.dtype(known[node.name].type)
            return (int(np.iinfo(kind).min), int(np.iinfo(kind).max)) if kind.kind in "iu" else None
        case Arithmetic(sign="%", left=Arithmetic(sign="//"), right=Constant(held=int(most))) if most > 0:
            return 0, most - 1
        case Sign() | Call():
            return _chosen_ends(node, known)
    return None


def whole_choice(node: Node, known: Mapping[str, Operand]) -> str | None:
    """The type in which a choice among whole numbers is made, which holds all that it is made of."""
    ends, parts = whole_ends(node, known), _chosen_from(node)
    held = [whole_ends(part, known) for part in parts]
    if ends is None or not parts or None in held:
        return None
    every = [end for pair in (ends, *held) if pair is not None for end in pair]
    kind = whole_type(min(every), max(every))
    return kind if kind in _WHOLE else None


def _chosen_from(node: Node) -> tuple[Node, ...]:
    """The parts of a node of which it gives one, or one with another sign."""
    match node:
        case Sign():
            return (node.part,)
        case Call(function="where"):
            return tuple(node.operands[1:])
        case Call(function="min" | "max" | "clamp" | "abs"):
            return tuple(node.operands)
    return ()


def _chosen_ends(node: Sign | Call, known: Mapping[str, Operand]) -> tuple[int, int] | None:
    parts = [whole_ends(part, known) for part in _chosen_from(node)]
    ends = [pair for pair in parts if pair is not None]
    if not ends or len(ends) < len(parts):
        return None
    lows, highs = [low for low, _ in ends], [high for _, high in ends]
    made = min(lows), max(highs)
    if isinstance(node, Sign):
        made = (-highs[0], -lows[0]) if node.sign == "-" else made
    elif node.function == "abs":
        made = max(lows[0], -highs[0], 0), max(abs(lows[0]), abs(highs[0]))
    elif node.function == "min":
        made = min(lows), min(highs)
    elif node.function == "max":
        made = max(lows), max(highs)
    elif node.function == "clamp":
        made = min(max(lows[:2]), lows[2]), min(max(highs[:2]), highs[2])
    return made if whole_type(min(*lows, made[0]), max(*highs, made[1])) in _WHOLE else None
