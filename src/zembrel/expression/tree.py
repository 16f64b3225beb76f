"""What an expression means: a tree of typed nodes, and its value for arrays by name."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from functools import reduce
from typing import Any

import numpy as np

from zembrel.errors import UsageError
from zembrel.expression.functions import ARITHMETIC, COMPARISONS, FUNCTIONS

NUMBER, TRUTH, WORD, WORDS, ANY = "a number", "true or false", "a word", "a list", "a value"


@dataclass(frozen=True)
class Node:
    """A part of an expression, and the character at which it begins.

    kind: what it gives: NUMBER, TRUTH, WORD, WORDS, or ANY where only the values tell.
    """

    at: int

    @property
    def kind(self) -> str:
        return NUMBER

    @property
    def parts(self) -> tuple[Node, ...]:
        return ()

    def value(self, values: Mapping[str, Any]) -> Any:
        raise NotImplementedError


@dataclass(frozen=True)
class Constant(Node):
    """A number, a word, or a list of these."""

    held: Any

    @property
    def kind(self) -> str:
        return WORD if isinstance(self.held, str) else WORDS if isinstance(self.held, tuple) else NUMBER

    def value(self, values: Mapping[str, Any]) -> Any:
        return list(self.held) if isinstance(self.held, tuple) else self.held


@dataclass(frozen=True)
class Name(Node):
    """A name, for which there is a value."""

    name: str

    @property
    def kind(self) -> str:
        return ANY

    def value(self, values: Mapping[str, Any]) -> Any:
        return values[self.name]


@dataclass(frozen=True)
class Sign(Node):
    """A part with its sign."""

    sign: str
    part: Node

    @property
    def parts(self) -> tuple[Node, ...]:
        return (self.part,)

    def value(self, values: Mapping[str, Any]) -> Any:
        inner = self.part.value(values)
        return -inner if self.sign == "-" else inner


@dataclass(frozen=True)
class Arithmetic(Node):
    """Two parts and what stands between them."""

    sign: str
    left: Node
    right: Node

    @property
    def parts(self) -> tuple[Node, ...]:
        return self.left, self.right

    def value(self, values: Mapping[str, Any]) -> Any:
        return ARITHMETIC[self.sign](self.left.value(values), self.right.value(values))


@dataclass(frozen=True)
class Comparison(Node):
    """Parts that are compared, each with the next."""

    signs: tuple[str, ...]
    compared: tuple[Node, ...]

    @property
    def kind(self) -> str:
        return TRUTH

    @property
    def parts(self) -> tuple[Node, ...]:
        return self.compared

    def value(self, values: Mapping[str, Any]) -> Any:
        ends = [part.value(values) for part in self.compared]
        steps = zip(self.signs, ends[:-1], ends[1:], strict=True)
        return reduce(np.logical_and, [COMPARISONS[sign](one, other) for sign, one, other in steps])


@dataclass(frozen=True)
class Logical(Node):
    """Parts joined by `and` or `or`, or one turned round by `not`."""

    word: str
    joined: tuple[Node, ...]

    @property
    def kind(self) -> str:
        return TRUTH

    @property
    def parts(self) -> tuple[Node, ...]:
        return self.joined

    def value(self, values: Mapping[str, Any]) -> Any:
        parts = [part.value(values) for part in self.joined]
        if self.word == "not":
            return np.logical_not(parts[0])
        return reduce(np.logical_and if self.word == "and" else np.logical_or, parts)


@dataclass(frozen=True)
class Call(Node):
    """A function of its operands."""

    function: str
    operands: tuple[Node, ...]

    @property
    def kind(self) -> str:
        return (
            self.operands[1].kind
            if self.function == "where"
            else TRUTH
            if self.function == "valid"
            else NUMBER
        )

    @property
    def parts(self) -> tuple[Node, ...]:
        return self.operands

    def value(self, values: Mapping[str, Any]) -> Any:
        return FUNCTIONS[self.function].operation(*(part.value(values) for part in self.operands))


@dataclass(frozen=True)
class Neighbourhood(Node):
    """A statistic of the valid cells in the square that reaches so many cells each way."""

    statistic: str
    part: Node
    reach: int

    @property
    def parts(self) -> tuple[Node, ...]:
        return (self.part,)

    def value(self, values: Mapping[str, Any]) -> Any:
        raise UsageError(
            f"{self.statistic}_around has nothing to look at", "only cells lie around each other",
            "use it with rasters",
        )  # fmt: skip


def reach_of(node: Node) -> int:
    """How many cells away what it gives may depend on."""
    own = node.reach if isinstance(node, Neighbourhood) else 0
    return own + max((reach_of(part) for part in node.parts), default=0)


def names_in(node: Node) -> Iterator[Name]:
    """The names in a tree, from left to right."""
    if isinstance(node, Name):
        yield node
    for part in node.parts:
        yield from names_in(part)
