"""Conditions on attributes: plain algebra over the fields of features."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np
import numpy.typing as npt

from zembrel.errors import UsageError, nearest_name
from zembrel.raster.algebra import parse_formula

Column = npt.NDArray[Any]
Mask = npt.NDArray[np.bool_]
_TOKENS = re.compile(r"'[^']*'|\"[^\"]*\"|`[^`]*`|(?<![=<>!])=(?!=)")


def parse_condition(text: str, fields: Sequence[str]) -> Callable[[Mapping[str, Column], int], Mask]:
    """Which features meet `text`, such as `depth > 3 and kind == 'path'` or `kind in ('wood', 'heath')`.

    A field whose name is no plain word stands in `backquotes`; = is ==. A missing number compares as false,
    a missing word is ''. The result takes columns by name and the number of features. Raises UsageError.
    """
    quoted: dict[str, str] = {}

    def plain(found: re.Match[str]) -> str:
        token = found[0]
        if token == "=":
            return "=="
        if token[0] != "`":
            return token
        name = token[1:-1]
        if name not in fields:
            raise UsageError(
                f"{text!r} names {name!r}", "no feature has such a field", nearest_name(name, fields)
            )
        return quoted.setdefault(name, f"field{len(quoted)}_")

    clean = _TOKENS.sub(plain, text)
    formula = parse_formula(clean, (*fields, *quoted.values()), words=True)

    def met(columns: Mapping[str, Column], count: int) -> Mask:
        named = {word: columns[name] for name, word in quoted.items()}
        values = {name: _comparable((named | dict(columns))[name]) for name in formula.names}
        try:
            kept = np.broadcast_to(np.asarray(formula(values)), (count,))
        except TypeError as exc:
            raise UsageError(
                f"{text!r} compares words with numbers", "they have no order", "quote words, not numbers"
            ) from exc
        if kept.dtype != bool:
            raise UsageError(
                f"{text!r} is no condition",
                "it is neither true nor false",
                "write for example kind == 'wood'",
            )
        return np.array(kept)

    return met


def _comparable(values: Column) -> Column:
    """A column that NumPy compares without a word about missing values."""
    if values.dtype != object:
        return values
    held = [value for value in values.tolist() if value is not None]
    if held and all(isinstance(value, int | float) for value in held):
        return np.array([np.nan if value is None else value for value in values.tolist()], np.float64)
    return np.array(["" if value is None else _word(value) for value in values.tolist()], np.str_)


def _word(value: Any) -> str:
    return value.isoformat() if hasattr(value, "isoformat") else str(value)
