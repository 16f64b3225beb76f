"""The record of a run, for whoever wants to know later how a result came about."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator, Mapping
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from zembrel.reading import readings
from zembrel.verbs.receipt import Receipt

_NOT_TYPED = (
    "command",
    "tick",
    "executor",
    "as_facts",
    "receiver",
    "named",
    "rasters",
)  # fields of groups that nobody gave


def recorded(receipt: Receipt, options: Mapping[str, Any]) -> Receipt:
    """`receipt` with the program's version, the options as they were understood, and every file it read.

    options: arguments of the verb by name; of groups of options those that were given.
    """
    from importlib.metadata import version

    record = {
        "version": version("zembrel"),
        "options": dict(_given(options)),
        "read": [_facts(path) for path in readings.files],
    }
    return replace(receipt, facts=receipt.facts | {"record": record})


def _given(options: Mapping[str, Any]) -> Iterator[tuple[str, Any]]:
    """Names and values of what differs from the default, groups unfolded."""
    for name, value in options.items():
        if dataclasses.is_dataclass(value):
            held = {f.name: getattr(value, f.name) for f in dataclasses.fields(value) if f.compare}
            usual = {f.name: f.default for f in dataclasses.fields(value)}
            yield from _given({n: v for n, v in held.items() if n not in _NOT_TYPED and v != usual[n]})
        elif value is not None and value is not False and value != ():
            yield name, value


def _facts(path: Path) -> dict[str, Any]:
    """Path, bytes and time of the last change, UTC, of a file; of one that is gone the path alone."""
    try:
        facts = path.stat()
    except OSError:
        return {"path": str(path)}
    changed = datetime.fromtimestamp(facts.st_mtime, UTC)
    return {"path": str(path), "bytes": facts.st_size, "changed": changed.isoformat(timespec="seconds")}
