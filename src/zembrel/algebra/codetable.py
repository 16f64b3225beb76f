"""Tables from old codes to new: CSV with a line of names, of which `old` and `new` must be there."""

from __future__ import annotations

import csv
import itertools
import re
from collections.abc import Mapping
from pathlib import Path
from typing import NamedTuple

from zembrel.errors import InputError, UsageError, nearest_name
from zembrel.raster.legend import Colour, colour_told
from zembrel.reading import readings

_COLUMNS = ("old", "new", "name", "colour")
_RANGE = re.compile(r"(-?\d+)(?:\s*(?:-|\.\.)\s*(-?\d+))?")
_MOST, _LONGEST = 16_000_000, 10_000  # bytes, and characters of a line
_LEAST_CODE, _MOST_CODE = -(2**31), 2**32 - 1


class Recoding(NamedTuple):
    """A line: codes from `low` to `high` become `new`, which may have a name and a colour."""

    low: int
    high: int
    new: int
    name: str = ""
    colour: Colour | None = None


def check_code(code: int, where: str = "") -> None:
    """Raise InputError for a code of a table, UsageError for a typed one, that no cell of 32 bits holds."""
    if not _LEAST_CODE <= code <= _MOST_CODE:
        kind = InputError if where else UsageError
        raise kind(
            f"{where}: code {code}" if where else f"code {code}", "cells hold 32 bits", "take smaller ones"
        )


def read_code_table(path: Path) -> list[Recoding]:
    """The lines of a table in ascending order of old codes. Raises InputError naming what is wrong."""
    made = []
    for number, row in enumerate(_rows(path), 2):
        if None in row:
            raise InputError(
                f"{path} line {number} has more values than names",
                "one would be lost",
                "quote those with commas",
            )
        made.append(
            _line(path, number, {key.strip().lower(): (held or "").strip() for key, held in row.items()})
        )
    made.sort()
    for one, other in itertools.pairwise(made):
        if other.low <= one.high:
            raise InputError(
                f"{path} says twice what becomes of code {other.low}",
                "only one can count",
                "keep one of the two",
            )
    if not made:
        raise InputError(f"{path} recodes nothing", "it has no line below its names", "add lines such as 3,1")
    return made


def _text_lines(path: Path) -> list[str]:
    try:
        with readings.note(path).open("rb") as file:
            text = file.read(_MOST).decode("utf-8-sig")
    except OSError as exc:
        raise InputError(
            f"code table {path} cannot be read", exc.strerror or str(exc), "check the path"
        ) from exc
    except UnicodeDecodeError as exc:
        raise InputError(f"{path} is no code table", "it is no text in UTF-8", "mend it") from exc
    lines = text.splitlines()
    if any(len(line) > _LONGEST for line in lines):
        raise InputError(
            f"{path} is no code table", f"a line has more than {_LONGEST:,} characters", "mend it"
        )
    return lines


def _rows(path: Path) -> csv.DictReader[str]:
    """The lines below the line of names, whose names are checked."""
    lines = _text_lines(path)
    sign = next((sign for sign in ";\t," if lines and sign in lines[0]), ",")
    table = csv.DictReader(lines, delimiter=sign)
    columns = [name.strip().lower() for name in table.fieldnames or ()]
    if not {"old", "new"} <= set(columns):
        raise InputError(
            f"{path} is no code table", f"its first line is {lines[0][:40]!r}" if lines else "it is empty",
            "begin it with old,new or old,new,name,colour",
        )  # fmt: skip
    for name in columns:
        if name not in _COLUMNS:
            raise InputError(
                f"{path} has a column {name!r}", "it would do nothing", nearest_name(name, _COLUMNS)
            )
    return table


def _line(path: Path, number: int, row: Mapping[str, str]) -> Recoding:
    old, new = _RANGE.fullmatch(row["old"]), row["new"]
    if old is None or not re.fullmatch(r"-?\d+", new):
        wrong = row["old"] if old is None else new
        raise InputError(
            f"{path} line {number}: {wrong!r} is no code", "codes are whole numbers, old ones also ranges",
            "write 3,1 or 5-9,2",
        )  # fmt: skip
    colour = colour_told(row.get("colour", ""))
    if row.get("colour") and colour is None:
        raise InputError(
            f"{path} line {number}: {row['colour']!r} is no colour", "it is not #rrggbb", "mend it"
        )
    low, high = int(old[1]), int(old[2] or old[1])
    for code in (low, high, int(new)):
        check_code(code, f"{path} line {number}")
    if low > high:
        raise InputError(f"{path} line {number}: {row['old']}", "a range goes up", f"write {high}-{low}")
    return Recoding(low, high, int(new), row.get("name", ""), colour)
