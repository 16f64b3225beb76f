"""Formulas and conditions: expressions that were parsed once, for arrays by name."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

from zembrel.errors import UsageError, nearest_name
from zembrel.expression.grammar import parse
from zembrel.expression.tree import ANY, TRUTH, Node, names_in

_SHOWN = 16  # names
Column = npt.NDArray[Any]
Mask = npt.NDArray[np.bool_]


@dataclass(frozen=True)
class Formula:
    """An expression, as it was typed and as it is understood."""

    text: str
    tree: Node

    @cached_property
    def names(self) -> tuple[str, ...]:
        """The names it uses, each once."""
        return tuple(dict.fromkeys(part.name for part in names_in(self.tree)))

    def check_names(self, known: Iterable[str]) -> None:
        """Raise UsageError, with the near miss, for a name that is not among `known`."""
        held = list(known)
        for part in names_in(self.tree):
            if part.name not in held:
                remedy = nearest_name(part.name, held)
                if not remedy.startswith("did you mean"):
                    remedy = f"if it is a word, put it in quotes: '{part.name}'"
                raise UsageError(
                    f"{self.text!r} names {part.name!r} at character {part.at + 1}",
                    f"known are {', '.join(held[:_SHOWN])}{' ...' if len(held) > _SHOWN else ''}",
                    remedy,
                )

    def __call__(self, values: Mapping[str, Any]) -> Any:
        """The result for arrays by name, all of one shape; division by zero gives infinity or NaN."""
        with np.errstate(all="ignore"):
            return self.tree.value(values)

    def __str__(self) -> str:
        return self.text


@dataclass(frozen=True)
class Condition(Formula):
    """An expression that is true or false."""

    def met(self, columns: Mapping[str, Column], count: int) -> Mask:
        """Which of `count` things meet it; a missing number compares as false, a missing word is ''.

        Raises UsageError if it compares words with numbers.
        """
        values = {name: comparable(columns[name]) for name in self.names}
        try:
            kept = np.broadcast_to(np.asarray(self(values)), (count,))
        except TypeError as exc:
            raise UsageError(
                f"{self.text!r} compares words with numbers", "they have no order", "quote words, not numbers"
            ) from exc
        if kept.dtype != bool:
            raise _no_condition(self.text)
        return np.array(kept)


def parse_formula(text: str) -> Formula:
    """A formula. Raises UsageError."""
    return Formula(text.strip(), parse(text))


def parse_condition(text: str) -> Condition:
    """A condition, such as `depth > 3 and kind == 'path'`. Raises UsageError."""
    tree = parse(text)
    if tree.kind not in (TRUTH, ANY):
        raise _no_condition(text)
    return Condition(text.strip(), tree)


def _no_condition(text: str) -> UsageError:
    return UsageError(
        f"{text!r} is no condition", "it is neither true nor false", "write for example kind == 'wood'"
    )


def comparable(values: Column, numbers: bool | None = None) -> Column:
    """A column that NumPy compares without a word about missing values.

    numbers: whether objects are numbers; None to see it from those that are there.
    """
    if values.dtype != object:
        return values
    held = [value for value in values.tolist() if value is not None] if numbers is None else []
    if numbers or (held and all(isinstance(value, int | float) for value in held)):
        return np.array([np.nan if value is None else value for value in values.tolist()], np.float64)
    return np.array(["" if value is None else _word(value) for value in values.tolist()], np.str_)


def _word(value: Any) -> str:
    return value.isoformat() if hasattr(value, "isoformat") else str(value)
