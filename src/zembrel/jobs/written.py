"""Values of options as a job file writes them, checked and brought to what a verb takes."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date, datetime, time
from typing import Any

from zembrel.errors import nearest_name
from zembrel.jobs.mistakes import Spot
from zembrel.jobs.signature import FLAG, NUMBER, TEXT, Option, Signature
from zembrel.jobs.steps import MadeBy

_FLAGS = {"true": True, "false": False}
_EXAMPLES = {TEXT: '"..."', NUMBER: "2.5", FLAG: "true"}
# options that are said to the run, for all steps
_OF_RUN = ("dry_run", "json", "quiet", "verbose", "progress", "cluster")


def check_names(given: Mapping[str, Any], verb: str, signature: Signature, spot: Spot) -> dict[str, Any]:
    """Return the options of a step, by names with underscores.

    Raises InputError for an unknown option, or a missing argument.
    """
    found: dict[str, Any] = {}
    for key, value in given.items():
        name, here = key.replace("-", "_"), spot.at(key)
        if name in found:
            what = f"{name} is there twice"
            raise here.mistake(what, "- and _ are the same in names of options", "leave one out")
        if name in _OF_RUN:
            flag = name.replace("_", "-")
            raise here.mistake(
                f"{key} is no option of a step", "all steps share it", f"use zembrel run --{flag}"
            )
        if name not in signature.options:
            near = nearest_name(name, (*signature.options, "id", "verb"))
            raise here.mistake(f"{verb} has no option {key!r}", "it would do nothing", near)
        found[name] = value
    missing = next((name for name in signature.required if name not in found), None)
    if missing is not None:
        what = f"{verb} needs {' and '.join(signature.required)}"
        raise spot.mistake(what, f"there is no {missing}", f'add {missing} = "..."')
    return found


def as_typed(option: Option, value: Any, spot: Spot) -> Any:
    """The value of an option, or a tuple of them if it takes several. Raises InputError."""
    if option.name == "set" and isinstance(value, Mapping):
        value = [f"{key}={_number_text(inner)}" for key, inner in value.items()]
    if isinstance(value, Mapping):
        raise spot.mistake(f"{spot.key} is a table", f"{option.name} takes {option.kind}", "write one value")
    if not option.many:
        if isinstance(value, list):
            one = f"{option.name} takes one value"
            raise spot.mistake(f"{spot.key} has {len(value)} values", one, "write one, or a step for each")
        return _one(option, value, spot)
    several = value if isinstance(value, list) else [value]
    return tuple(_one(option, inner, spot) for inner in several)


def _one(option: Option, value: Any, spot: Spot) -> Any:
    if isinstance(value, MadeBy):
        return value
    found = _converted(option.kind, value)
    if found is None:
        remedy = f"write {spot.key} = {_EXAMPLES.get(option.kind, 4)}"
        raise spot.mistake(f"{spot.key} = {_shown(value)}", f"{option.name} takes {option.kind}", remedy)
    return found


def _converted(kind: str, value: Any) -> Any:
    """A value of that kind; None if it is none."""
    if kind == FLAG:
        return _FLAGS.get(value) if isinstance(value, str) else value if isinstance(value, bool) else None
    if isinstance(value, bool):
        return None
    if kind == TEXT:
        return value if isinstance(value, str) else _number_text(value)
    try:
        number = float(value)
        return number if kind == NUMBER else int(value) if number == int(number) else None
    except (TypeError, ValueError, OverflowError):
        return None


def _number_text(value: Any) -> str | None:
    """A number, a date or a truth as it is typed; None for anything else."""
    if isinstance(value, datetime | date | time):
        return value.isoformat()
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, float) and value.is_integer() and abs(value) < 1e15:
        return str(int(value))
    return str(value) if isinstance(value, str | int | float) else None


def _shown(value: Any) -> str:
    return (
        f'"{value}"'
        if isinstance(value, str)
        else str(value).lower()
        if isinstance(value, bool)
        else str(value)
    )
