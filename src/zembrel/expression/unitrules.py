"""The units of results: carried through formulas where bands have them."""

from __future__ import annotations

import re
from collections.abc import Mapping

from zembrel.expression.tree import TRUTH, Arithmetic, Call, Constant, Name, Neighbourhood, Node, Sign

Powers = dict[str, int]  # of units, by their signs; empty: a plain number
_SIMPLE = re.compile(r"[A-Za-z°%µ]+")
_KEEPS = ("abs", "floor", "ceil", "round", "min", "max", "clamp")
_ANGLES = {"atan": "rad", "atan2": "rad", "asin": "rad", "acos": "rad", "radians": "rad", "degrees": "deg"}


class UnlikeUnitsError(Exception):
    """Values of two units are added, subtracted or compared: which, and at which character."""

    def __init__(self, one: str, other: str, at: int) -> None:
        super().__init__(one, other, at)
        self.one, self.other, self.at = one, other, at


def unit_of(node: Node, units: Mapping[str, str]) -> str:
    """The unit of a result by those of the names in it, empty for a plain number.

    Raises UnlikeUnitsError where values of two units are added or compared.
    """
    return _shown(_powers(node, units))


def _powers(node: Node, units: Mapping[str, str]) -> Powers:
    match node:
        case Name():
            unit = units[node.name]
            return {unit: 1} if unit else {}
        case Sign() | Neighbourhood():
            counts = isinstance(node, Neighbourhood) and node.statistic == "count"
            return {} if counts else _powers(node.parts[0], units)
        case Arithmetic():
            return _joined(node, units)
        case Call():
            return _called(node, units)
    if node.kind == TRUTH:
        _alike(node, node.parts, units)
    return {}


def _joined(node: Arithmetic, units: Mapping[str, str]) -> Powers:
    if node.sign in ("+", "-", "%"):
        return _alike(node, node.parts, units)
    left, right = (_powers(part, units) for part in node.parts)
    if node.sign == "**":
        power = node.right.held if isinstance(node.right, Constant) else None
        return {unit: held * power for unit, held in left.items()} if isinstance(power, int) else {}
    turn = 1 if node.sign == "*" else -1
    whole = {unit: left.get(unit, 0) + turn * right.get(unit, 0) for unit in {**left, **right}}
    return {unit: power for unit, power in whole.items() if power}


def _called(node: Call, units: Mapping[str, str]) -> Powers:
    if node.function in _ANGLES:
        return {_ANGLES[node.function]: 1}
    if node.function == "where":
        _powers(node.operands[0], units)
        return _alike(node, node.operands[1:], units)
    if node.function in (*_KEEPS, "hypot"):
        return _alike(node, node.operands, units)
    inner = [_powers(part, units) for part in node.operands]
    if node.function == "sqrt" and all(power % 2 == 0 for power in inner[0].values()):
        return {unit: power // 2 for unit, power in inner[0].items()}
    return {}


def _alike(node: Node, parts: tuple[Node, ...], units: Mapping[str, str]) -> Powers:
    """The unit that all have; plain numbers go with any."""
    found: Powers = {}
    for part in parts:
        own = _powers(part, units)
        if own and found and own != found:
            raise UnlikeUnitsError(_shown(found), _shown(own), part.at)
        found = found or own
    return found


def _shown(powers: Powers) -> str:
    """Such as m, m2, m/s or 1/m; units that are not simple signs cannot be multiplied."""
    if list(powers.values()) == [1]:
        return next(iter(powers))
    if not powers or not all(_SIMPLE.fullmatch(unit) for unit in powers):
        return ""
    over, under = (
        [
            f"{unit}{abs(power) if abs(power) > 1 else ''}"
            for unit, power in sorted(powers.items())
            if power * turn > 0
        ]
        for turn in (1, -1)
    )
    return "/".join([" ".join(over) or "1", *under])
