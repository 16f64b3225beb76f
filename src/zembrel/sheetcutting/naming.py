"""Names of sheets by a template: `{row:02}_{col:02}`, `{name}`, `{west:.0f}_{north:.0f}`."""

from __future__ import annotations

import re
from collections.abc import Mapping
from string import Formatter
from typing import Any

from zembrel.errors import UsageError, nearest_name

_UNSAFE = re.compile(r'[\x00-\x1f/\\:*?"<>|]+')


def check_template(template: str, fields: Mapping[str, Any]) -> None:
    """Raise UsageError, with the near miss, for a template that names other things than `fields`."""
    try:
        parts = list(Formatter().parse(template))
    except ValueError as exc:
        raise UsageError(
            f"--name {template!r}", f"it cannot be read: {exc}", "write {row:02}_{col:02}"
        ) from exc
    for _, field, spec, conversion in parts:
        if field is None:
            continue
        if field not in fields or conversion or "{" in (spec or ""):
            raise UsageError(
                f"--name {template!r} names {{{field}}}",
                f"sheets have {', '.join(fields)}",
                nearest_name(field, fields),
            )


def sheet_name(template: str, fields: Mapping[str, Any]) -> str:
    """The file name, without its ending, of a sheet with `fields`. Raises UsageError.

    What no file name can hold becomes `_`.
    """
    try:
        name = template.format(**{key: "" if value is None else value for key, value in fields.items()})
    except (ValueError, TypeError) as exc:
        raise UsageError(
            f"--name {template!r} does not fit", f"{exc}", "numbers take {row:02}, words {name}"
        ) from exc
    name = _UNSAFE.sub("_", name).strip(". ")
    if not name:
        raise UsageError(f"--name {template!r} makes an empty name", "a file needs one", "add {number}")
    return name
