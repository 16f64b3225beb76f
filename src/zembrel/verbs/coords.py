"""coords: coordinates of one CRS into another, line by line."""

from __future__ import annotations

import math
import re
import sys
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from itertools import islice
from pathlib import Path
from typing import Any, TextIO

import numpy as np
import orjson

from zembrel.engine.commit import Staging, resource_errors
from zembrel.errors import InputError, UsageError
from zembrel.geodesy.crs import CRS, GeographicCRS, ProjectedCRS, label
from zembrel.geodesy.operation import CoordinateOperation, operation
from zembrel.verbs.options import Output
from zembrel.verbs.receipt import LOSSES, Receipt
from zembrel.verbs.within import parse_crs_phrase

CHUNK = 100_000  # lines at a time
SHOWN = 5
_DMS = re.compile(
    r"""\s*([+-]?)\s*(\d+(?:\.\d*)?)\s*[°d:\s]\s*(?:(\d+(?:\.\d*)?)\s*['′m:\s]?\s*(?:(\d+(?:\.\d*)?)\s*["″s]?\s*)?)?([NSEWnsew]?)\s*"""
)


@dataclass(frozen=True)
class Reading:
    """How lines are to be understood and written.

    registered: axes in the registry's order and signs; strict: refuse where no datum shift is known.
    """

    swapped: bool = False
    registered: bool = False
    keep_going: bool = False
    strict: bool = False


def coords(
    source: str | None,
    target: str | None,
    output: Output,
    reading: Reading,
    *,
    lines: Iterable[str] | None = None,
) -> Receipt:
    """Lines `x,y[,z]` of `lines` (default: stdin) from CRS `source` to `target`, to stdout or `output.out`.

    Further columns are carried along. A point outside a domain becomes `nan,nan`. Raises InputError with the
    number of the first line that is no point, unless such lines are to be left out.
    """
    if not source or not target:
        raise UsageError(
            "coords needs two CRSs",
            "coordinates mean nothing without",
            "write --from-crs EPSG:4326 --crs EPSG:32626",
        )
    start, end = parse_crs_phrase(source), parse_crs_phrase(target)
    move = operation(start, end)
    if move.shift is not None:
        move.shift.checked(reading.strict)
    counts = _Counts()
    text = _converted(lines if lines is not None else sys.stdin, move, reading, counts)
    title = f"{label(start)} -> {label(end)}"
    if output.out:
        path = output.path
        with Staging(output.replace) as staging:
            staged = staging.path_for(path)
            with resource_errors(path), staged.open("w", encoding="utf-8") as file:
                _pour(text, file)
            staging.publish()
    else:
        _pour(text, sys.stdout)
    checks = [f"{counts.lost:,} outside the domain (nan)"] if counts.lost else ["all inside the domain"]
    shown = [f"line {n}: {line}" for n, line in counts.bad[:SHOWN]]
    rest = [f"{len(counts.bad) - SHOWN} more"] if len(counts.bad) > SHOWN else []
    facts: dict[str, Any] = {
        "points": counts.points, "outside": counts.lost, "bad_lines": [n for n, _ in counts.bad],
        "operation": move.describe(),
    }  # fmt: skip
    receipt_lines = (
        ("points", (f"{counts.points:,}", *checks)),
        ("chose", (move.describe(),)),
        ("lost", (*shown, *rest)),
    )
    return Receipt("coords", title, receipt_lines, facts, LOSSES if counts.bad else 0)


@dataclass
class _Counts:
    """What was met on the way."""

    points: int = 0
    lost: int = 0
    bad: list[tuple[int, str]] = field(default_factory=list)


def _pour(text: Iterator[str], file: TextIO) -> None:
    for part in text:
        file.write(part)


def _converted(
    lines: Iterable[str], move: CoordinateOperation, reading: Reading, counts: _Counts
) -> Iterator[str]:
    number, source = 0, iter(lines)
    while chunk := list(islice(source, CHUNK)):
        yield _chunk(chunk, number, move, reading, counts)
        number += len(chunk)


def _chunk(
    lines: list[str], before: int, move: CoordinateOperation, reading: Reading, counts: _Counts
) -> str:
    """The lines of one chunk, converted and joined."""
    parsed = _fast(lines)
    rests: list[str] | None = None
    if parsed is None:
        parsed, rests = _slow(lines, before, reading, counts)
    x, y = _in_order(parsed[:, 0], parsed[:, 1], move.source, reading)
    moved = move(x, y)
    gone = ~(np.isfinite(moved[0]) & np.isfinite(moved[1]))
    counts.points += len(parsed)
    counts.lost += int(gone.sum())
    a, b = _in_order(
        np.where(gone, np.nan, moved[0]), np.where(gone, np.nan, moved[1]), move.target, reading, back=True
    )
    texts = _shortest(np.column_stack([a, b]))
    if rests is None:
        return "\n".join(texts) + "\n"
    return "".join(f"{text}{rest}\n" for text, rest in zip(texts, rests, strict=True))


def _shortest(points: np.ndarray) -> list[str]:
    """`x,y` of each point, (n, 2), with the fewest digits that read back to the same numbers."""
    if not len(points):
        return []
    text = orjson.dumps(np.ascontiguousarray(points), option=orjson.OPT_SERIALIZE_NUMPY).decode("ascii")
    return text[2:-2].replace("null", "nan").split("],[")


def _fast(lines: list[str]) -> np.ndarray | None:
    """All lines as plain `x,y`, (n, 2); None if any is otherwise."""
    try:
        values = np.loadtxt(lines, np.float64, delimiter=",", comments=None, ndmin=2)
    except ValueError:
        return None
    return values if values.shape[1] == 2 and np.isfinite(values).all() else None


def _slow(lines: list[str], before: int, reading: Reading, counts: _Counts) -> tuple[np.ndarray, list[str]]:
    points, rests = [], []
    for number, line in enumerate(lines, before + 1):
        if not line.strip():
            continue
        parts = line.rstrip("\r\n").split(",")
        pair = [_number(part) for part in parts[:2]]
        if len(pair) < 2 or None in pair:
            if number == 1 and not any(c.isdigit() for c in "".join(parts[:2])):
                continue  # a heading
            if not reading.keep_going:
                raise InputError(
                    f"line {number} is no point: {line.strip()[:60]!r}",
                    "x,y or x,y,z is due, as numbers or degrees, minutes and seconds",
                    "correct the line, or leave such lines out with --keep-going",
                )
            counts.bad.append((number, line.strip()[:40]))
            continue
        points.append(pair)
        rests.append("".join("," + part for part in parts[2:]))
    return np.array(points, dtype=np.float64).reshape(-1, 2), rests


def _number(text: str) -> float | None:
    """A number, or degrees, minutes and seconds with a sign or a letter; None for anything else."""
    try:
        value = float(text)
        return value if math.isfinite(value) else None
    except ValueError:
        pass
    found = _DMS.fullmatch(text)
    if not found:
        return None
    sign, degrees, minutes, seconds, letter = found.groups()
    if max(float(minutes or 0), float(seconds or 0)) >= 60:
        return None
    size = float(degrees) + float(minutes or 0) / 60 + float(seconds or 0) / 3600
    return -size if sign == "-" or letter.upper() in ("S", "W") else size


def _in_order(
    one: np.ndarray, other: np.ndarray, crs: CRS, reading: Reading, *, back: bool = False
) -> tuple[np.ndarray, np.ndarray]:
    """First and second column as x and y of the inside, or (`back`) the other way round."""
    if reading.registered and isinstance(crs, GeographicCRS | ProjectedCRS):
        return _registered(one, other, crs.axes, back)
    if reading.swapped and isinstance(crs, GeographicCRS):
        return other, one
    return one, other


def _registered(
    one: np.ndarray, other: np.ndarray, axes: tuple[str, ...], back: bool
) -> tuple[np.ndarray, np.ndarray]:
    directions = [axis.split()[0] for axis in axes[:2]]
    signs = [
        -1.0 if d in ("west", "south") and " " not in axis else 1.0
        for d, axis in zip(directions, axes, strict=False)
    ]
    first_is_y = directions[0] in ("north", "south") and directions[1] in ("east", "west")
    if back:
        one, other = (other, one) if first_is_y else (one, other)
        return signs[0] * one, signs[1] * other
    one, other = signs[0] * one, signs[1] * other
    return (other, one) if first_is_y else (one, other)


def read_lines(path: str | None) -> Iterable[str] | None:
    """The lines of a file, or None for stdin. Raises InputError."""
    if path is None or path == "-":
        return None
    try:
        return Path(path).read_text("utf-8").splitlines(keepends=True)
    except (OSError, UnicodeDecodeError) as exc:
        raise InputError(f"{path} cannot be read", str(exc), "check the path") from exc
