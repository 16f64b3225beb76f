"""Values of options as the verbs take them.

Typer builds a validator for every option of a command, given or not, which takes longer than reading a small
file. Ours are texts, numbers and flags, so they are converted here.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from functools import partial
from typing import Any

from zembrel.errors import UsageError

_NUMBERS: Mapping[str, Callable[[str], float]] = {"int": int, "float": float}


def convert_here(params: Iterable[Any], annotations: Mapping[str, Any] = {}) -> None:
    """Let the values of `params` be converted by `_processed`; annotations: by name, those of flags aside."""
    for param in params:
        text = str(annotations.get(param.name, "bool"))
        kind = next((name for name in ("str", "int", "float") if name in text), "bool")
        param.process_value = partial(_processed, param, param.process_value, kind)


def _processed(param: Any, typer: Callable[..., Any], kind: str, ctx: Any, value: Any) -> Any:
    """A value that was given, or a default. Raises UsageError for what is no number."""
    if value is None:
        return () if param.multiple else None
    if kind == "bool":
        return typer(ctx, value)
    if param.multiple and kind != "str":
        return tuple(_number(param, one, kind) for one in value)
    return value if kind == "str" or not isinstance(value, str) else _number(param, value, kind)


def _number(param: Any, value: Any, kind: str) -> Any:
    if not isinstance(value, str):
        return value
    try:
        return _NUMBERS[kind](value.replace("_", "?"))  # which Python would let stand between digits
    except ValueError as exc:
        what = "a whole number" if kind == "int" else "a number"
        bare = re.match(r"[+-]?\d+(\.\d+)?" if kind == "float" else r"[+-]?\d+", value.strip())
        why = f"{what} is needed" + (", without a unit" if bare else "")
        raise UsageError(
            f"{param.opts[-1]} {value}", why, f"write {param.opts[-1]} {bare[0] if bare else 4}"
        ) from exc
