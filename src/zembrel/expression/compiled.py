"""From the trees of formulas to a program for cells."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from zembrel.expression.classnames import meaningless, with_codes
from zembrel.expression.formula import Formula
from zembrel.expression.functions import FUNCTIONS, PAIRED
from zembrel.expression.operand import Operand, type_of, whole_choice
from zembrel.expression.program import Instruction, Outcome, Program, Statistic
from zembrel.expression.tree import (
    Arithmetic,
    Call,
    Comparison,
    Constant,
    Logical,
    Name,
    Neighbourhood,
    Node,
    Sign,
    names_in,
    reach_of,
)
from zembrel.expression.voids import VoidRule

_ARITHMETIC = {
    "+": np.add, "-": np.subtract, "*": np.multiply, "/": np.true_divide, "//": np.floor_divide,
    "%": np.mod, "**": np.power,
}  # fmt: skip
_COMPARISONS = {
    "==": np.equal, "!=": np.not_equal, "<": np.less, "<=": np.less_equal, ">": np.greater,
    ">=": np.greater_equal,
}  # fmt: skip


_EXACT = 1 << 24  # up to which single precision tells whole numbers apart
_WIDE = ("int64", "uint64")  # of which double precision does not hold each number


def copied(value: Any, *, out: Any) -> None:
    """A step that changes the type."""
    np.copyto(out, value, casting="unsafe")


def chosen(condition: Any, yes: Any, no: Any, *, out: Any) -> None:
    """The step of `where`."""
    np.copyto(out, no)
    np.copyto(out, yes, where=condition)


def among(value: Any, held: Any, *, out: Any) -> None:
    """The step of `in`."""
    out[...] = np.isin(value, held)


def compiled(formulas: Sequence[Formula], known: Mapping[str, Operand]) -> Program:
    """The program that gives each formula's result. Raises UsageError for names that mean nothing."""
    for formula in formulas:
        formula.check_names(known)
    formulas = [with_codes(formula, known) for formula in formulas]
    maker = _Maker(formulas, known)
    outcomes = tuple(maker.outcome(formula) for formula in formulas)
    reach = max(reach_of(formula.tree) for formula in formulas)
    return Program(
        maker.names,
        tuple(maker.statistics),
        maker.constants,
        maker.registers,
        tuple(maker.steps),
        outcomes,
        reach,
        maker.rounds,
    )


class _Maker:
    def __init__(self, formulas: Sequence[Formula], known: Mapping[str, Operand]) -> None:
        self._known, self._formulas = known, formulas
        self.names = tuple(dict.fromkeys(name for formula in formulas for name in formula.names))
        arounds = list(dict.fromkeys(n for f in formulas for n in _outermost(f.tree)))
        self._around = {node: len(self.names) + number for number, node in enumerate(arounds)}
        plain = [known[name].type for name in self.names]
        exact = all(kind == "float32" or np.dtype(kind).itemsize == 1 for kind in plain)
        exact = exact and all(abs(value) <= _EXACT for f in formulas for value in _numbers(f.tree))
        self.type = "float32" if exact else "float64"
        self.statistics = [
            Statistic(n.statistic, n.reach, compiled([Formula(self._text(n), n.part)], known))
            for n in arounds
        ]
        self._slots = len(self.names) + len(arounds)
        self.rounds = any(known[name.name].type in _WIDE for n in arounds for name in names_in(n))
        self.constants: dict[int, Any] = {}
        self.registers: dict[int, str] = {}
        self.steps: list[Instruction] = []
        self._made: dict[Any, int] = {}
        inputs: dict[Node | str, int] = {name: slot for slot, name in enumerate(self.names)}
        self._rule = VoidRule(inputs | self._around, self._number, self._truth, self.constants.get)

    def _text(self, node: Node) -> str:
        """The formula that a node is of, for messages."""
        return next((f.text for f in self._formulas if node in _all(f.tree)), "")

    def outcome(self, formula: Formula) -> Outcome:
        """The last step of a formula, which writes its result."""
        slot = self._value(formula.tree)
        kind = type_of(formula, self._known)
        out = self._new(kind)
        self.steps.append(Instruction(copied, (slot,), out))
        return Outcome(out, kind, self._rule.of(formula.tree, kind.startswith("float")))

    def _new(self, kind: str) -> int:
        self.registers[self._slots] = kind
        self._slots += 1
        return self._slots - 1

    def _constant(self, value: Any) -> int:
        key = (type(value), value)
        if key not in self._made:
            self.constants[self._slots] = list(value) if isinstance(value, tuple) else value
            self._made[key] = self._slots
            self._slots += 1
        return self._made[key]

    def _step(self, operation: Any, operands: tuple[int, ...], kind: str) -> int:
        key = operation, operands, kind
        if key not in self._made:
            self._made[key] = self._new(kind)
            self.steps.append(Instruction(operation, operands, self._made[key]))
        return self._made[key]

    def _number(self, node: Node) -> int:
        """The slot of a node's value as a number of the type that is computed in."""
        return self._in(self._value(node), self.type)

    def _in(self, slot: int, kind: str) -> int:
        """A slot that holds the same in another type."""
        held = self._type_of_slot(slot)
        self.rounds |= held in _WIDE and kind == "float64"
        return slot if held in (None, kind) else self._step(copied, (slot,), kind)

    def _kind(self, node: Node) -> str:
        """The type in which a part is computed."""
        return whole_choice(node, self._known) or self.type

    def _type_of_slot(self, slot: int) -> str | None:
        """None for constants, which are of any type."""
        if slot in self.constants:
            return None
        if slot < len(self.names):
            return self._known[self.names[slot]].type
        return self.registers.get(slot, "float64")  # statistics are made in double precision

    def _value(self, node: Node) -> int:
        """The slot in which the value of a node stands once the steps up to now have run."""
        match node:
            case Constant():
                return self._constant(node.held)
            case Name():
                return self.names.index(node.name)
            case Neighbourhood():
                return self._around[node]
            case _ if not any(True for _ in names_in(node)):
                return self._constant(self._folded(node))
            case Sign():
                kind = self._kind(node)
                inner = self._in(self._value(node.part), kind)
                return self._step(np.negative, (inner,), kind) if node.sign == "-" else inner
            case Arithmetic():
                return self._arithmetic(node)
            case Comparison():
                return self._comparison(node)
            case Logical():
                parts = [self._truth(part) for part in node.joined]
                pair = {"and": np.logical_and, "or": np.logical_or}.get(node.word)
                return self._chain(pair, parts) if pair else self._step(np.logical_not, (parts[0],), "bool")
            case Call():
                return self._call(node)
        raise AssertionError(node)

    def _chain(self, pair: Any, parts: Sequence[int], kind: str = "bool") -> int:
        whole = parts[0]
        for part in parts[1:]:
            whole = self._step(pair, (whole, part), kind)
        return whole

    def _truth(self, node: Node) -> int:
        slot = self._value(node)
        if self._type_of_slot(slot) == "bool" or slot in self.constants:
            return slot
        return self._step(np.not_equal, (slot, self._constant(0)), "bool")

    def _folded(self, node: Node) -> Any:
        """The value of a node that names nothing."""
        with np.errstate(all="ignore"):
            try:
                value = node.value({})
            except (ArithmeticError, ValueError):
                value = np.nan
        if not np.isfinite(value):
            raise meaningless(self._text(node), node, "it is no finite number")
        return value.item() if isinstance(value, np.generic | np.ndarray) else value

    def _arithmetic(self, node: Arithmetic) -> int:
        left = self._number(node.left)
        if node.sign == "**" and isinstance(node.right, Constant) and node.right.held in (2, 0.5):
            return self._step(np.square if node.right.held == 2 else np.sqrt, (left,), self.type)
        return self._step(_ARITHMETIC[node.sign], (left, self._number(node.right)), self.type)

    def _comparison(self, node: Comparison) -> int:
        steps = zip(node.signs, node.compared[:-1], node.compared[1:], strict=True)
        return self._chain(np.logical_and, [self._compared(*step) for step in steps])

    def _compared(self, sign: str, one: Node, other: Node) -> int:
        if sign.endswith("in"):
            found = self._step(among, (self._value(one), self._constant(tuple(other.value({})))), "bool")
            return found if sign == "in" else self._step(np.logical_not, (found,), "bool")
        ends = self._value(one), self._value(other)
        kinds = [self._type_of_slot(slot) for slot in ends]
        whole = [isinstance(self.constants.get(slot), int) or np.dtype(kind or "f8").kind in "iub"
                 for slot, kind in zip(ends, kinds, strict=True)]  # fmt: skip
        if not all(whole) and kinds[0] != kinds[1]:
            ends = self._number(one), self._number(other)
        return self._step(_COMPARISONS[sign], ends, "bool")

    def _call(self, node: Call) -> int:
        if node.function == "valid":
            out = self._new("bool")
            self._value(node.operands[0])  # whose registers tell it
            self.steps.append(Instruction(None, (), out, self._rule.of(node.operands[0], False)))
            return out
        kind = self._kind(node)
        if node.function == "where":
            condition = self._truth(node.operands[0])
            yes, no = (self._in(self._value(part), kind) for part in node.operands[1:])
            if condition in self.constants:
                return yes if self.constants[condition] else no
            return self._step(chosen, (condition, yes, no), kind)
        parts = [self._in(self._value(part), kind) for part in node.operands]
        if node.function in PAIRED:
            return self._chain(PAIRED[node.function], parts, kind)
        if node.function == "clamp":
            return self._step(np.clip, tuple(parts), kind)
        return self._step(FUNCTIONS[node.function].operation, tuple(parts), kind)


def _all(node: Node) -> list[Node]:
    return [node, *(inner for part in node.parts for inner in _all(part))]


def _numbers(node: Node) -> list[float]:
    """The whole numbers in a tree."""
    return [n.held for n in _all(node) if isinstance(n, Constant) and isinstance(n.held, int)]


def _outermost(node: Node) -> list[Neighbourhood]:
    """The statistics in a tree that stand in no other."""
    if isinstance(node, Neighbourhood):
        return [node]
    return [inner for part in node.parts for inner in _outermost(part)]
