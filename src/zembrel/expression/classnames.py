"""Words in formulas: the names of classes, as the codes that their layers have for them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from zembrel.errors import UsageError, nearest_name
from zembrel.expression.formula import Formula
from zembrel.expression.operand import Operand
from zembrel.expression.tree import (
    WORD,
    WORDS,
    Arithmetic,
    Call,
    Comparison,
    Constant,
    Logical,
    Name,
    Neighbourhood,
    Node,
    Sign,
)


def with_codes(formula: Formula, known: Mapping[str, Operand]) -> Formula:
    """`formula` with codes for the names of classes that it compares layers with.

    Raises UsageError, with the character, for a word that is the name of no class.
    """
    return replace(formula, tree=_Words(formula.text, known).coded(formula.tree))


def meaningless(text: str, node: Node, why: str) -> UsageError:
    """The error for a part of a formula that can be read and means nothing."""
    return UsageError(f"{text[:80]!r} means nothing at character {node.at + 1}", why, "mend the formula")


class _Words:
    def __init__(self, text: str, known: Mapping[str, Operand]) -> None:
        self._text, self._known = text, known

    def coded(self, node: Node) -> Node:
        match node:
            case Comparison():
                return replace(node, compared=self._compared(node.compared))
            case Logical():
                return replace(node, joined=tuple(map(self.coded, node.joined)))
            case Call():
                return replace(node, operands=tuple(map(self.coded, node.operands)))
            case Arithmetic():
                return replace(node, left=self.coded(node.left), right=self.coded(node.right))
            case Sign() | Neighbourhood():
                return replace(node, part=self.coded(node.part))
            case Constant() if node.kind == WORD:
                raise meaningless(self._text, node, "words are compared with the names of classes")
        return node

    def _compared(self, parts: tuple[Node, ...]) -> tuple[Node, ...]:
        """Parts of a comparison; each word belongs to the layer beside it."""
        made = []
        for number, part in enumerate(parts):
            if isinstance(part, Constant) and part.kind in (WORD, WORDS):
                beside = parts[number - 1] if number else parts[1]
                made.append(self._codes(part, beside))
            else:
                made.append(self.coded(part))
        return tuple(made)

    def _codes(self, node: Constant, beside: Node) -> Node:
        words = node.held if isinstance(node.held, tuple) else (node.held,)
        if not any(isinstance(word, str) for word in words):
            return node
        codes = self._known[beside.name].codes if isinstance(beside, Name) else {}
        if not codes:
            raise meaningless(self._text, node, "words are compared with a layer whose classes have names")
        for word in words:
            if isinstance(word, str) and word not in codes:
                raise meaningless(
                    self._text, node, f"there is no class {word!r}: {nearest_name(word, codes)}"
                )
        found = tuple(codes[word] if isinstance(word, str) else word for word in words)
        return Constant(node.at, found if isinstance(node.held, tuple) else found[0])
