"""Our small TOML files: read, checked key by key, and written without losing a bit."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from zembrel.errors import InputError, nearest_name
from zembrel.nested import toml_of
from zembrel.reading import readings

Keys = Mapping[str, type | tuple[type, ...]]


def read_toml(path: Path, kind: str) -> dict[str, Any]:
    """Content of the TOML file at `path`; `kind` names it in messages ("frame file").

    Raises InputError if it is missing, not text or not TOML.
    """
    try:
        return toml_of(readings.note(path).read_text(encoding="utf-8"))
    except OSError as exc:
        raise InputError(
            f"{kind} {path} cannot be read", exc.strerror or str(exc), "check the path and its permissions"
        ) from exc
    except ValueError as exc:
        raise InputError(f"{path} is not a {kind}", f"not TOML: {exc}", "mend that line") from exc


def check_keys(path: Path, table: Mapping[str, Any], known: Keys, required: tuple[str, ...] = ()) -> None:
    """Raise InputError, with line and near miss, for a key of `table` that is wrong or missing."""
    for key, value in table.items():
        if key not in known:
            raise InputError(
                f"{path}{_line(path, key)}: unknown key {key!r}",
                "a misspelt key would silently do nothing",
                nearest_name(key, known),
            )
        allowed = known[key]
        kinds = allowed if isinstance(allowed, tuple) else (allowed,)
        if not isinstance(value, kinds) or (isinstance(value, bool) and bool not in kinds):
            names = " or ".join(kind.__name__ for kind in kinds)
            raise InputError(
                f"{path}{_line(path, key)}: {key} = {value!r}", f"{key} takes {names}", "mend that line"
            )
    for key in required:
        if key not in table:
            raise InputError(
                f"{path}: {key} is missing", "without it the rest means nothing", f"add {key} = ..."
            )


def _line(path: Path, key: str) -> str:
    """Return the line of a key; nothing for a table that was inside a file of another kind."""
    try:
        lines = path.read_text(encoding="utf-8").splitlines()
    except (OSError, UnicodeDecodeError):
        return ""
    pattern = re.compile(rf"""\s*\[*\s*["']?{re.escape(key)}["']?\s*[\]=]""")
    return next((f" line {n}" for n, line in enumerate(lines, 1) if pattern.match(line)), "")


def write_toml(table: Mapping[str, Any]) -> str:
    """TOML text of `table`: plain values first, then one section for each nested mapping."""
    plain = [f"{_key(k)} = {_value(v)}" for k, v in table.items() if not isinstance(v, Mapping)]
    parts = ["\n".join(plain)] if plain else []
    for name, inner in table.items():
        if isinstance(inner, Mapping):
            parts.append(
                f"[{_key(name)}]\n" + "\n".join(f"{_key(k)} = {_value(v)}" for k, v in inner.items())
            )
    return "\n\n".join(parts) + "\n"


def _key(name: str) -> str:
    return name if re.fullmatch(r"[A-Za-z0-9_-]+", name) else _value(name)


def _value(value: Any) -> str:
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, int | float):
        return repr(value)
    if isinstance(value, list | tuple):
        return "[" + ", ".join(_value(v) for v in value) + "]"
    escaped = str(value).replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")
    return f'"{escaped}"'
