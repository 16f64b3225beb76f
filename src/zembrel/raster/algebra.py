"""Plain algebra over named arrays: numbers, names, + - * / // % **, comparisons, and, or, not, functions.

A formula is read as an expression of Python's grammar of which only these parts are allowed, so it can
neither call nor reach anything else.
"""

from __future__ import annotations

import ast
import operator
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import reduce
from itertools import pairwise
from typing import Any

import numpy as np

from zembrel.errors import UsageError, nearest_name

_PAIRS: dict[type, Callable[[Any, Any], Any]] = {
    ast.Add: operator.add, ast.Sub: operator.sub, ast.Mult: operator.mul, ast.Div: np.true_divide,
    ast.FloorDiv: np.floor_divide, ast.Mod: np.mod, ast.Pow: np.power,
    ast.Eq: operator.eq, ast.NotEq: operator.ne, ast.Lt: operator.lt, ast.LtE: operator.le,
    ast.Gt: operator.gt, ast.GtE: operator.ge,
    ast.In: np.isin, ast.NotIn: lambda value, held: ~np.isin(value, held),
}  # fmt: skip
_PLAIN = _PAIRS.keys() - {ast.In, ast.NotIn}  # what may stand between numbers
FUNCTIONS: dict[str, Callable[..., Any]] = {
    "abs": np.abs, "sqrt": np.sqrt, "log": np.log, "exp": np.exp, "floor": np.floor, "ceil": np.ceil,
    "round": np.round, "min": np.minimum, "max": np.maximum, "where": np.where,
}  # fmt: skip
_OPERANDS = {"min": 2, "max": 2, "where": 3}  # of functions that take more than one
_LONGEST = 2_000  # characters


@dataclass(frozen=True)
class Formula:
    """An expression and the names it uses."""

    text: str
    names: tuple[str, ...]

    def __call__(self, values: Mapping[str, Any]) -> Any:
        """The result for arrays by name, all of one shape; division by zero gives infinity or NaN."""
        with np.errstate(all="ignore"):
            return _value(ast.parse(self.text, mode="eval").body, values)


def parse_formula(text: str, known: Sequence[str], *, words: bool = False) -> Formula:
    """Raises UsageError for what is no formula, or names something else than `known`.

    words: whether 'words' in quotes may stand in it, and lists of them after `in`.
    """
    try:
        if len(text) > _LONGEST:
            raise SyntaxError("it is too long")
        tree = ast.parse(text.strip(), mode="eval")
    except (SyntaxError, ValueError, RecursionError, MemoryError) as exc:
        why = exc.msg if isinstance(exc, SyntaxError) else "it cannot be read"
        raise UsageError(f"{text!r} is no formula", f"{why}".lower(), "write for example value > 3") from exc
    names: list[str] = []
    _check(tree.body, text, known, names, words)
    return Formula(text.strip(), tuple(dict.fromkeys(names)))


def _check(node: ast.AST, text: str, known: Sequence[str], names: list[str], words: bool) -> None:
    if isinstance(node, ast.Constant) and (isinstance(node.value, int | float) or _is_word(node, words)):
        return
    if words and isinstance(node, ast.Tuple | ast.List):
        for held in node.elts:
            _check(held, text, (), names, words)
        return
    if isinstance(node, ast.Name):
        if node.id not in known:
            remedy = nearest_name(node.id, known)
            if words and not remedy.startswith("did you mean"):
                remedy = f"if it is a word, put it in quotes: '{node.id}'"
            raise UsageError(f"{text!r} names {node.id!r}", f"known are {', '.join(known)}", remedy)
        names.append(node.id)
        return
    for part in _parts(node, text, words):
        _check(part, text, known, names, words)


def _is_word(node: ast.Constant, words: bool) -> bool:
    return words and isinstance(node.value, str)


def _parts(node: ast.AST, text: str, words: bool) -> Sequence[ast.AST]:
    """The operands of a node that may stand in a formula."""
    if isinstance(node, ast.BinOp) and type(node.op) in _PAIRS:
        return node.left, node.right
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub | ast.UAdd | ast.Not):
        return (node.operand,)
    if isinstance(node, ast.BoolOp):
        return node.values
    if isinstance(node, ast.Compare) and all(type(op) in (_PAIRS if words else _PLAIN) for op in node.ops):
        return node.left, *node.comparators
    called = isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and not node.keywords
    if called and node.func.id in FUNCTIONS:  # type: ignore[attr-defined]
        due = _OPERANDS.get(node.func.id, 1)  # type: ignore[attr-defined]
        if len(node.args) != due:  # type: ignore[attr-defined]
            raise UsageError(
                f"{text!r} is no plain formula",
                f"{ast.unparse(node)} has not {due} operand{'s' if due > 1 else ''}",
                "write for example min(a, b), sqrt(a) or where(a > 0, a, b)",
            )
        return node.args  # type: ignore[attr-defined,no-any-return]
    raise UsageError(
        f"{text!r} is no plain formula",
        f"{ast.unparse(node)} is not allowed in one",
        f"use + - * / ** comparisons, and, or, not, {', '.join(FUNCTIONS)}",
    )


def _value(node: ast.AST, values: Mapping[str, Any]) -> Any:
    if isinstance(node, ast.Constant):
        return node.value
    if isinstance(node, ast.Name):
        return values[node.id]
    if isinstance(node, ast.Tuple | ast.List):
        return [_value(part, values) for part in node.elts]
    if isinstance(node, ast.BinOp):
        return _PAIRS[type(node.op)](_value(node.left, values), _value(node.right, values))
    if isinstance(node, ast.UnaryOp):
        inner = _value(node.operand, values)
        if isinstance(node.op, ast.Not):
            return np.logical_not(inner)
        return -inner if isinstance(node.op, ast.USub) else inner
    if isinstance(node, ast.BoolOp):
        join = np.logical_and if isinstance(node.op, ast.And) else np.logical_or
        return reduce(join, [_value(part, values) for part in node.values])
    if isinstance(node, ast.Compare):
        ends = [_value(part, values) for part in (node.left, *node.comparators)]
        steps = zip(node.ops, pairwise(ends), strict=True)
        return reduce(np.logical_and, [_PAIRS[type(sign)](*pair) for sign, pair in steps])
    assert isinstance(node, ast.Call) and isinstance(node.func, ast.Name)
    return FUNCTIONS[node.func.id](*(_value(part, values) for part in node.args))
