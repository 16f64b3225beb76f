"""Lists of tie points: CSV with the columns column, row, x, y and, if they have names, name."""

from __future__ import annotations

import csv
from pathlib import Path

import numpy as np

from zembrel.errors import InputError
from zembrel.grid.pinning import Ties
from zembrel.reading import readings

COLUMNS = ("column", "row", "x", "y")


def read_ties(path: Path) -> Ties:
    """The points in the file at `path`. Raises InputError naming the line that is none."""
    try:
        with readings.note(path).open(encoding="utf-8-sig", newline="") as file:
            rows = list(csv.DictReader(file))
    except (OSError, UnicodeDecodeError, csv.Error) as exc:
        raise InputError(f"{path} cannot be read", str(exc), "check the list of tie points") from exc
    if not rows or any(name not in rows[0] for name in COLUMNS):
        found = ", ".join(map(str, rows[0])) if rows else "nothing"
        raise InputError(
            f"{path} is no list of tie points",
            f"its first line has {found}",
            "begin it with column,row,x,y and one point on each further line",
        )
    places = np.empty((len(rows), 4))
    for number, row in enumerate(rows):
        try:
            places[number] = [float(row[name]) for name in COLUMNS]
        except (TypeError, ValueError) as exc:
            raise InputError(
                f"line {number + 2} of {path} is no tie point", f"{exc}", "four numbers are needed"
            ) from exc
        if not np.isfinite(places[number]).all():
            raise InputError(f"line {number + 2} of {path} is no place", "it is not finite", "correct it")
    names = tuple(str(row.get("name") or number) for number, row in enumerate(rows, 1))
    return Ties(places[:, 2:], places[:, :2], names)
