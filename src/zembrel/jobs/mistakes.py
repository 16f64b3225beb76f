"""The errors of job files, each with its line."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

from zembrel.errors import InputError
from zembrel.jobs.places import KeyLines


class Spot(NamedTuple):
    """A place in a job file: a table, its number among those of its name, and a key."""

    path: Path
    lines: KeyLines
    table: str = ""
    number: int = 0
    key: str = ""

    def at(self, key: str) -> Spot:
        """A key of the same table."""
        return self._replace(key=key)

    def __str__(self) -> str:
        line = self.lines.line(self.table, self.number, self.key)
        return f"{self.path} line {line}" if line else str(self.path)

    @property
    def own_line(self) -> int:
        """The line of the key itself, 0 if it is not in the file."""
        return self.lines.line_of(self.table, self.number, self.key)

    def mistake(self, what: str, why: str, remedy: str) -> InputError:
        """The error that something is wrong here."""
        return InputError(f"{self}: {what}", why, remedy)
