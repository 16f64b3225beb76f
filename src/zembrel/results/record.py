"""The record of a run, for whoever wants to know later how a result came about."""

from __future__ import annotations

import dataclasses
import hashlib
import inspect
from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from zembrel.reading import readings
from zembrel.results.receipt import Receipt
from zembrel.version import program_version
from zembrel.web.addresses import is_address, shown

_CHEAP = 4_000_000  # bytes of a file whose checksum takes no time worth speaking of
_NOT_TYPED = (
    "command",
    "tick",
    "executor",
    "cluster",
    "as_facts",
    "receiver",
    "named",
    "rasters",
)  # fields of groups that nobody gave


def recorded(receipt: Receipt, options: Mapping[str, Any], *, checksums: bool = False) -> Receipt:
    """`receipt` with the program's version, the options as they were understood, every file it read, and the
    coordinate operations.

    options: arguments of the verb by name; of groups of options those that were given; checksums: of small
    files, which are read once more for that.
    """
    record = {
        "version": program_version(),
        "options": dict(_given(options)),
        "read": [_facts(path, checksums) for path in readings.files],
        "operations": [{"from": move.source, "to": move.target, "how": move.how} for move in readings.moves],
    }
    return replace(receipt, record=record)


def _given(options: Mapping[str, Any]) -> Iterator[tuple[str, Any]]:
    """Names and values of what differs from the default, groups unfolded."""
    for name, value in options.items():
        if dataclasses.is_dataclass(value):
            held = {f.name: getattr(value, f.name) for f in dataclasses.fields(value) if f.compare}
            usual = {f.name: f.default for f in dataclasses.fields(value)}
            yield from _given({n: v for n, v in held.items() if n not in _NOT_TYPED and v != usual[n]})
        elif value is not None and value is not False and value != ():
            yield name, tuple(map(told, value)) if isinstance(value, tuple) else told(value)


# options of which no cell depends, or which say where
_ASIDE = (
    "inputs", "inputs_from", "out", "replace", "dry_run", "ceiling", "memory", "workers", "keep_going",
    "resume", "offline", "trust_inputs", "carry_to", "device", "figure", "table", "page", "index",
    "provenance", "path", "words", "keep_bounds",
)  # fmt: skip


def said(
    function: Callable[..., Any], options: Mapping[str, Any], typed: Mapping[str, str]
) -> dict[str, Any]:
    """The options on which a result depends, by the names that people type, without folders."""
    usual = inspect.signature(function).parameters
    found = {}
    for name, value in _given(options):
        shown = typed.get(name, name)
        flat = name in usual and value == usual[name].default
        if shown not in _ASIDE and not flat and isinstance(value, str | int | float | bool | tuple | list):
            held = [_named(inner) for inner in value] if isinstance(value, tuple | list) else _named(value)
            found[shown] = held
    return dict(sorted(found.items()))


def _named(value: Any) -> Any:
    """A value, or of a path the name alone: folders are of this machine."""
    if not isinstance(value, str):
        return value if isinstance(value, int | float | bool) else str(value)
    lead, equals, path = value.rpartition("=")
    try:
        there = "/" in path and Path(path).exists()
    except (OSError, ValueError):
        there = False
    return f"{lead}{equals}{Path(path).name}" if there else value


def told(value: Any) -> Any:
    """A value without the credentials of an address."""
    return shown(value) if isinstance(value, str) and is_address(value) else value


def _facts(path: Path, checksums: bool) -> dict[str, Any]:
    """Path, bytes, time of the last change (UTC), checksum of a small file; the path of one that is gone."""
    try:
        facts = path.stat()
    except OSError:
        return {"path": str(path)}
    changed = datetime.fromtimestamp(facts.st_mtime, UTC)
    known = {"path": str(path), "bytes": facts.st_size, "changed": changed.isoformat(timespec="seconds")}
    if not checksums or facts.st_size > _CHEAP or not path.is_file():
        return known
    return known | {"sha256": hashlib.sha256(path.read_bytes()).hexdigest()}
