"""Source files (`*.source.toml`): where a service is, of which kind, and what it may be asked.

An address is a template: `{z}` and the like are filled in for each request, and any other `{name}` is a
variable of the file. A value `$NAME` is a variable of the environment, so that no key stands in a file.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from zembrel.errors import InputError, UsageError, nearest_name
from zembrel.measure import parse_bytes, parse_duration
from zembrel.redaction import redact
from zembrel.sources.sourcekinds import KINDS, lacking
from zembrel.tomlfile import Keys, check_keys, read_toml, write_toml
from zembrel.web.addresses import host_of, is_address, origin_of, without_login
from zembrel.web.asking import Manner, Request, from_environment

ENDING = ".source.toml"
HOLDS = ("colours", "codes", "heights", "values")
_NUMBER = (int, float)
_SIMPLE: Keys = {
    "kind": str, "address": str, "title": str, "attribution": str, "terms": str, "holds": str, "legend": str,
    "bounds": list, "zooms": str, "tiling": str, "tile_cells": int, "layer": str, "style": str, "format": str,
    "crs": str, "cell": _NUMBER, "version": str, "unit": str, "nodata": _NUMBER, "hosts": list,
    "private": bool, "parallel": int, "per_second": _NUMBER, "tries": int, "seconds": _NUMBER,
    "most": str, "age": str, "collections": list, "assets": list, "link": str, "name": str, "size": str,
}  # fmt: skip
_TABLES: Keys = {"variables": dict, "headers": dict, "heights": dict}
_HEIGHTS: Keys = {
    "base": _NUMBER,
    "step": _NUMBER,
    "red": _NUMBER,
    "green": _NUMBER,
    "blue": _NUMBER,
    "void": _NUMBER,
}
_FILLED = ("z", "x", "y", "-y", "name", "west", "south", "east", "north")
_SLOT = re.compile(r"\{([A-Za-z_-]+)\}")


@dataclass(frozen=True)
class SourceFile:
    """What a source file says. path: where it stands; said: keys and values; the rest are its tables."""

    path: Path
    said: Mapping[str, Any]
    variables: Mapping[str, str] = field(default_factory=dict)
    headers: Mapping[str, str] = field(default_factory=dict)
    heights: Mapping[str, float] = field(default_factory=dict)

    @property
    def name(self) -> str:
        return self.path.name.removesuffix(ENDING)

    @property
    def kind(self) -> str:
        return str(self.said["kind"])

    @property
    def address(self) -> str:
        return str(self.said["address"])

    @property
    def own(self) -> str:
        """The name under which its answers are kept: another address or path is another one."""
        mark = hashlib.sha256(f"{self.address} {self.path.absolute().parent}".encode()).hexdigest()[:8]
        return f"{self.name} {mark}"

    @property
    def holds(self) -> str:
        given = self.said.get("holds") or ("heights" if self.heights else None)
        return str(given or ("codes" if self.said.get("legend") else "colours"))

    def get(self, key: str, default: Any = None) -> Any:
        """What it says of `key`."""
        return self.said.get(key, default)

    @property
    def manner(self) -> Manner:
        """How its server is asked. Raises InputError for limits that mean nothing."""
        hosts = tuple(str(host) for host in self.get("hosts", []))
        own = self.filled(secret=True) if is_address(self.address) else None
        server, first = (origin_of(own), (host_of(own),)) if own is not None else (None, ())
        return Manner(
            tuple(self.headers.items()), server, (*first, *hosts), bool(self.get("private", False)),
            _at_least(self, "parallel", 8), float(self.get("per_second", 0.0)), _at_least(self, "tries", 8),
            float(self.get("seconds", 60.0)), parse_bytes(str(self.get("most", "256MB"))),
        )  # fmt: skip

    @property
    def age(self) -> float | None:
        """Seconds after which what is kept is asked for again; None for never."""
        given = self.get("age")
        return None if given is None else parse_duration(str(given))

    def filled(self, *, secret: bool, **values: Any) -> str:
        """The address with variables and `values` filled in; secret: those of the environment too.

        Raises InputError for a variable that the file does not have.
        """

        def value(found: re.Match[str]) -> str:
            name = found[1]
            if name in values:
                return str(values[name])
            if name in _FILLED:
                return found[0]
            if name not in self.variables:
                what = f"{self.path}: {{{name}}} in its address is no variable of it"
                raise InputError(
                    what, "[variables] does not say it", nearest_name(name, [*self.variables, *_FILLED])
                )
            held = self.variables[name]
            return from_environment(held) if secret and held.startswith("$") else held

        return _SLOT.sub(value, self.address)

    def request(self, **values: Any) -> Request:
        """The request for its address, filled in."""
        told = without_login(self.filled(secret=False, **values))
        return Request(self.filled(secret=True, **values), told, told)

    def to(self, address: str) -> Request:
        """A request to an address that the service gave; what stems from the environment is not told."""
        return Request.of(address, redact(address))

    def resolved(self, key: str) -> Path:
        """A path that the file names, from its own folder."""
        return self.path.absolute().parent / str(self.said[key])


def _at_least(source: SourceFile, key: str, default: int) -> int:
    number = int(source.get(key, default))
    if not 1 <= number <= 256:
        raise InputError(f"{source.path}: {key} = {number}", "it has 1 to 256", "mend that line")
    return number


def read_source(path: Path) -> SourceFile:
    """The source file at `path`. Raises InputError with line and near miss."""
    return checked_source(path, read_toml(path, "source file"))


def checked_source(path: Path, table: Mapping[str, Any]) -> SourceFile:
    """What the content of a source file at `path` says. Raises InputError with line and near miss."""
    check_keys(path, table, {**_SIMPLE, **_TABLES}, ("kind", "address"))
    kind = table["kind"]
    if kind not in KINDS:
        raise InputError(
            f"{path}: there is no kind {kind!r}", "a source has one of them", nearest_name(kind, KINDS)
        )
    if table.get("holds", HOLDS[0]) not in HOLDS:
        why = f"known are {', '.join(HOLDS)}"
        raise InputError(f"{path}: holds = {table['holds']!r}", why, nearest_name(str(table["holds"]), HOLDS))
    check_keys(path, table.get("heights", {}), _HEIGHTS)
    texts = {
        name: {key: str(value) for key, value in table.get(name, {}).items()}
        for name in ("variables", "headers")
    }
    _check_secrets(path, texts["headers"])
    said = {key: value for key, value in table.items() if key not in _TABLES}
    heights = {key: float(value) for key, value in table.get("heights", {}).items()}
    source = SourceFile(path, said, texts["variables"], texts["headers"], heights)
    if not KINDS[kind].local and not is_address(source.address):
        what = f"{path}: address = {source.address!r}"
        raise InputError(what, "only http and https are asked", "mend the address")
    _check_slots(source)
    _check_bounds(source)
    source.filled(secret=False)
    return source


def _check_slots(source: SourceFile) -> None:
    """Raise InputError for an address that lacks what is filled in for each request."""
    missing = lacking(KINDS[source.kind], frozenset(_SLOT.findall(source.address)))
    if missing:
        what = f"{source.path}: its address has no {{{missing[0]}}}"
        why = "tiles are asked for by {z}, {x} and {y} (or {-y}), places by {name}"
        raise InputError(what, why, "mend the address")


def _check_secrets(path: Path, headers: Mapping[str, str]) -> None:
    """Raise InputError for a header that holds a key itself."""
    for name, value in headers.items():
        if re.search(r"auth|key|token|cookie|secret", name, re.IGNORECASE) and "$" not in value:
            what = f"{path}: the header {name} holds its value in the file"
            raise InputError(what, "keys do not belong into files", f'write {name} = "$NAME", and set NAME')


def _check_bounds(source: SourceFile) -> None:
    given = source.get("bounds")
    if given is None:
        return
    numbers = [value for value in given if isinstance(value, int | float) and not isinstance(value, bool)]
    if len(numbers) != 4 or len(given) != 4 or not (-90 <= numbers[1] < numbers[3] <= 90):
        why = "west, south, east and north in degrees are needed"
        raise InputError(f"{source.path}: bounds = {given}", why, "write bounds = [-24.1, 45.9, -23.9, 46.1]")


def written(source: SourceFile) -> str:
    """The text of a source file."""
    tables = {name: getattr(source, name) for name in _TABLES}
    return write_toml({**source.said, **{name: dict(table) for name, table in tables.items() if table}})


def changed(source: SourceFile, settings: Mapping[str, str]) -> SourceFile:
    """`source` with other values: variables of the address, keys, or `headers.NAME` and the like.

    Raises UsageError with the near miss for a key there is none of.
    """
    said, tables = dict(source.said), {name: dict(getattr(source, name)) for name in _TABLES}
    slots = set(_SLOT.findall(said["address"])) - set(_FILLED)
    for key, value in settings.items():
        table, dot, inner = key.partition(".")
        if dot and table in tables:
            tables[table][inner] = float(value) if table == "heights" else value
        elif key in slots or key in source.variables:
            tables["variables"][key] = value
        elif key in _SIMPLE:
            said[key] = _typed(key, value)
        else:
            raise UsageError(
                f"a source has no {key!r}", "it would do nothing", nearest_name(key, [*_SIMPLE, *slots])
            )
    return SourceFile(source.path, said, tables["variables"], tables["headers"], tables["heights"])


def _typed(key: str, value: str) -> Any:
    """The value of a key as its file has it. Raises UsageError."""
    kind = _SIMPLE[key]
    try:
        if kind is bool:
            return {"true": True, "false": False}[value.lower()]
        if kind is int:
            return int(value)
        if kind == _NUMBER:
            return float(value)
        if kind is list:
            parts = [part.strip() for part in value.split(",") if part.strip()]
            return [float(part) for part in parts] if key == "bounds" else parts
    except (KeyError, ValueError) as exc:
        raise UsageError(
            f"--set {key}={value}", f"{key} takes another kind of value", "see docs/sources.md"
        ) from exc
    return value
