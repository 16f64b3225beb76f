"""Runs that go on where one before was stopped: known again by their inputs and options."""

from __future__ import annotations

import dataclasses
import hashlib
import json
import secrets
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from zembrel.engine.commit import Staging
from zembrel.inputs.intake import Given
from zembrel.inputs.options import Output, Where
from zembrel.nested import json_of
from zembrel.sheetcutting.cutting import Cutting

MARK = ".zembrel-sheets"  # in the folder of the sheets: which run makes them
_NOT_OF_SHEETS = (
    "known", "rasters", "replace", "resume", "index", "tick", "executor", "receiver", "command", "memory",
    "workers", "cluster", "keep_going", "as_facts", "ceiling", "dry_run", "started",
)  # fmt: skip


@dataclass(frozen=True)
class SheetRun:
    """A run that makes sheets, and which of them are done: those that stand, and those found empty.

    before: identities of the sheets that stood when it first began, by name: they are of another run.
    """

    folder: Path
    mark: str
    resumed: bool
    empty: frozenset[str]
    before: dict[str, list[int]]

    @classmethod
    def of(
        cls, given: Given, where: Where, output: Output, cutting: Cutting, sheets: Sequence[Path]
    ) -> SheetRun:
        """This run; what another has begun in the folder of its results counts if it is to be resumed."""
        mark, said = fingerprint(given, where, output, cutting), _read(output.path)
        resumed = cutting.resume and said.get("run") == mark
        empty, before = said.get("empty"), said.get("before")
        if not (resumed and isinstance(empty, list) and isinstance(before, dict)):
            empty, before = [], {str(path): _identity(path) for path in sheets if path.is_file()}
        return cls(output.path, mark, resumed, frozenset(empty), before)

    def stands(self, sheet: Path) -> bool:
        """Whether a sheet that this run has made is there already."""
        return self.resumed and sheet.is_file() and self.before.get(str(sheet)) != _identity(sheet)

    def has_found_empty(self, sheet: Path) -> bool:
        return str(sheet) in self.empty

    def tell(self, empty: Sequence[Path] = ()) -> None:
        """Say in the folder which run makes what is in it, and which sheets it found empty."""
        found = sorted({*self.empty, *map(str, empty)})
        held = {"run": self.mark, "empty": found, "before": self.before}
        with Staging(replace=True) as staging:
            staging.write_text(self.folder / MARK, json.dumps(held) + "\n")
            staging.publish()


def _read(folder: Path) -> dict[str, Any]:
    try:
        found = json_of((folder / MARK).read_text("utf-8"))
    except (OSError, ValueError):
        return {}
    return found if isinstance(found, dict) else {}


def fingerprint(given: Given, where: Where, output: Output, own: Any) -> str:
    """Of inputs with size and time and options that change a cell or a point; rasters in memory have none.

    own: the options of the verb alone, a data class.
    """
    if given.options.rasters:
        return secrets.token_hex(32)
    named = [Path(name) for name in (getattr(own, "by", None), where.within, where.onto) if name]
    files = [_state(path) for path in (*(origin.file for origin in given.origins), *named)]
    options = [_options(group) for group in (given.options, where, output, own)]
    text = json.dumps([files, options], sort_keys=True, default=str)
    return hashlib.sha256(text.encode()).hexdigest()


def _identity(sheet: Path) -> list[int]:
    found = sheet.stat()
    return [found.st_ino, found.st_mtime_ns]


def _state(path: Path) -> list[Any]:
    try:
        found = path.stat()
    except OSError:  # an area in words, no file
        return [str(path)]
    return [str(path.absolute()), found.st_size, found.st_mtime_ns]


def _options(group: Any) -> dict[str, Any]:
    held = {field.name: getattr(group, field.name) for field in dataclasses.fields(group)}
    return {name: value for name, value in held.items() if name not in _NOT_OF_SHEETS}
