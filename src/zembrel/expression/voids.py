"""Where the results of formulas are void: a rule that follows their trees."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from zembrel.expression.functions import FUNCTIONS
from zembrel.expression.program import Both, Choice, Decided, Finite, InputValid, Validity
from zembrel.expression.tree import Arithmetic, Call, Logical, Name, Neighbourhood, Node, Sign, names_in

# functions and signs that give no finite number for none, so that it shows in the result
_CARRIES = {"+", "-", "*", "abs", "sqrt", "log", "log10", "floor", "ceil", "round", "sin", "cos", "tan",
            "radians", "degrees", "hypot"}  # fmt: skip


@dataclass(frozen=True)
class VoidRule:
    """Where parts of formulas are void.

    inputs: the slots of names and neighbourhoods; number and truth: the slot of the value of a part;
    constant: what stands in a slot that never changes, else None.
    """

    inputs: Mapping[Node | str, int]
    number: Callable[[Node], int]
    truth: Callable[[Node], int]
    constant: Callable[[int], object]

    def of(self, node: Node, shows: bool) -> Validity:
        """The rule for a part. shows: whether a number that is none shows in the result anyway."""
        return _simple(self._of(node, shows))

    def _of(self, node: Node, shows: bool) -> Validity:
        match node:
            case Name():
                return InputValid(self.inputs[node.name])
            case Neighbourhood():
                return InputValid(self.inputs[node])
            case Call(function="valid"):
                return None
            case Call(function="where"):
                return self._chosen(node, shows)
            case Logical(word="and" | "or"):
                slots = tuple(self.truth(part) for part in node.joined)
                return Decided(node.word, slots, tuple(self.of(part, False) for part in node.joined))
        sign = node.sign if isinstance(node, Arithmetic) else node.function if isinstance(node, Call) else ""
        carried = shows and (sign in _CARRIES or isinstance(node, Sign))
        parts = [self._of(part, carried) for part in node.parts]
        if sign in ("/", "//", "%"):
            parts = [self._of(node.parts[0], shows), self._of(node.parts[1], False)]
        risky = sign in ("/", "//", "%", "**") or (sign in FUNCTIONS and FUNCTIONS[sign].risky)
        if risky and not shows and any(True for _ in names_in(node)):
            parts.append(Finite(self.number(node)))
        return Both(tuple(parts))

    def _chosen(self, node: Call, shows: bool) -> Validity:
        condition, yes, no = node.operands
        slot = self.truth(condition)
        fixed = self.constant(slot)
        if fixed is not None:
            return self._of(yes if fixed else no, shows)
        branches = (self.of(part, shows) for part in (yes, no))
        return Both((self._of(condition, False), Choice(slot, *branches)))


def _simple(validity: Validity) -> Validity:
    """The same without doublets and nesting."""
    if isinstance(validity, Choice):
        yes, no = _simple(validity.yes), _simple(validity.no)
        return yes if yes == no else Choice(validity.slot, yes, no)
    if isinstance(validity, Decided):
        return validity if any(validity.parts) else None
    if not isinstance(validity, Both):
        return validity
    parts: list[Validity] = []
    for part in map(_simple, validity.parts):
        parts += part.parts if isinstance(part, Both) else [part]
    parts = [part for part in dict.fromkeys(parts) if part is not None]
    return parts[0] if len(parts) == 1 else Both(tuple(parts)) if parts else None
