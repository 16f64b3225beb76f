"""coords: coordinates of one CRS into another, line by line."""

from __future__ import annotations

import math
import re
import sys
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field, replace
from itertools import islice
from pathlib import Path
from typing import Annotated, Any, TextIO

import numpy as np
import orjson

from zembrel.engine.commit import Staging, resource_errors
from zembrel.errors import InputError, UsageError
from zembrel.facts import fact, remarks
from zembrel.geodesy.crs import CRS, GeographicCRS, ProjectedCRS, label, vertical_of
from zembrel.geodesy.operation import CoordinateOperation, operation
from zembrel.inputs.aids import check_used, equipped, metres
from zembrel.inputs.options import Output, Where
from zembrel.inputs.within import parse_crs_phrase
from zembrel.optiontext import OptionText
from zembrel.reading import readings
from zembrel.results.receipt import LOSSES, Receipt

CHUNK = 100_000  # lines at a time
SHOWN = 5
_DMS = re.compile(
    r"""\s*([+-]?)\s*(\d+(?:\.\d*)?)\s*[°d:\s]\s*(?:(\d+(?:\.\d*)?)\s*['′m:\s]?\s*(?:(\d+(?:\.\d*)?)\s*["″s]?\s*)?)?([NSEWnsew]?)\s*"""
)


@dataclass(frozen=True)
class CoordinateReading:
    """How lines are to be understood and written.

    axes: `registry` for the registry's order and signs. z_in: metres in a unit of the heights that are read,
    z_out of those written; None if the third column is no height that changes.
    """

    from_crs: Annotated[str | None, OptionText("CRS of the coordinates.", "CRS")] = None
    crs: Annotated[str | None, OptionText("CRS of the result.", "CRS", short="-c")] = None
    inputs_from: Annotated[str | None, OptionText("Read lines from a file instead of stdin.", "FILE")] = None
    swapped: Annotated[bool, OptionText("Latitude comes first, in degrees.", flag="--yx")] = False
    axes: Annotated[str | None, OptionText("Use the axis order and signs of the registry.", "registry")] = (
        None
    )
    keep_going: Annotated[bool, OptionText("Skip invalid lines; exit code 7.")] = False
    z_in: float | None = None
    z_out: float = 1.0


def coords(
    where: Where, output: Output, reading: CoordinateReading, *, lines: Iterable[str] | None = None
) -> Receipt:
    """Write `lines` of `x,y[,z]` (default: of the file, or stdin), moved to another CRS, to a file or stdout.

    z changes where both CRSs say what heights mean, or the unit is to change; further columns are carried
    along. A point outside a domain becomes `nan,nan`. Raises InputError with the number of the first line
    that is no point, unless such lines are to be left out.
    """
    start, end = _crss(reading, where)
    move = operation(start, end).checked(where.strict_crs)
    check_used(where, [move])
    reading = _with_units(reading, move, where)
    counts = _Counts()
    lines = _lines_of(reading.inputs_from) if lines is None else lines
    text = _converted(lines, move, reading, counts)
    told: dict[str, Any] = {}
    if output.out:
        with Staging(output.replace) as staging:
            staged = staging.path_for(output.path)
            with resource_errors(output.path), staged.open("w", encoding="utf-8") as file:
                _pour(text, file)
            staging.publish()
    elif output.as_facts:
        told["lines"] = [line.rstrip("\n") for line in text]
    else:
        _pour(text, sys.stdout)
    shown = [fact("bad_line", number=n, line=line) for n, line in counts.bad[:SHOWN]]
    shown += [fact("and_more", more=len(counts.bad) - SHOWN)] if len(counts.bad) > SHOWN else []
    chose = remarks([move.describe()])
    if reading.z_in is not None and not move.changes_heights:
        chose += (fact("heights_into", unit=where.z_unit),)
    return Receipt(
        "coords",
        out=output.out,
        chose=chose,
        losses=tuple(shown),
        own={
            "from_crs": label(start), "to_crs": label(end), "points": counts.points, "outside": counts.lost,
            "bad_lines": [n for n, _ in counts.bad], "operation": move.describe(), **told,
        },
        exit_code=LOSSES if counts.bad else 0,
    )  # fmt: skip


def _crss(reading: CoordinateReading, where: Where) -> tuple[CRS, CRS]:
    """Return the CRS of the coordinates, and that of the result. Raises UsageError."""
    if reading.axes not in (None, "registry"):
        raise UsageError(
            f"--axes {reading.axes}",
            "axes are x first, or as registered",
            "write --axes registry, or leave it out",
        )
    if not reading.from_crs or not reading.crs:
        raise UsageError(
            "coords needs two CRSs",
            "coordinates mean nothing without",
            "write --from-crs EPSG:4326 --crs EPSG:32626",
        )
    start = parse_crs_phrase(reading.from_crs)
    return start, equipped(parse_crs_phrase(reading.crs), where, [vertical_of(start)])


def _with_units(reading: CoordinateReading, move: CoordinateOperation, given: Where) -> CoordinateReading:
    """`reading` with the units of heights, if they change. Raises UsageError if nobody says them."""
    if move.changes_heights and move.heights is not None:
        own = metres(given.from_z_unit) if given.from_z_unit else move.heights.source.unit.factor
        return replace(reading, z_in=own, z_out=move.heights.target.unit.factor)
    if not given.z_unit:
        return reading
    vertical = move.source.vertical
    if not given.from_z_unit and vertical is None:
        raise UsageError(
            "nobody says in which unit the heights are",
            f"{label(move.source)} does not",
            "add --from-z-unit m, if that is what they are in",
        )
    own = metres(given.from_z_unit) if given.from_z_unit else vertical.unit.factor if vertical else 1.0
    return replace(reading, z_in=own, z_out=metres(given.z_unit))


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
    lines: Iterable[str], move: CoordinateOperation, reading: CoordinateReading, counts: _Counts
) -> Iterator[str]:
    number, source = 0, iter(lines)
    while chunk := list(islice(source, CHUNK)):
        yield _chunk(chunk, number, move, reading, counts)
        number += len(chunk)


def _chunk(
    lines: list[str], before: int, move: CoordinateOperation, reading: CoordinateReading, counts: _Counts
) -> str:
    """The lines of one chunk, converted and joined."""
    columns = 2 if reading.z_in is None else 3
    parsed = _fast(lines, columns)
    rests: list[str] | None = None
    if parsed is None:
        parsed, rests = _slow(lines, before, columns, reading, counts)
    x, y = _in_order(parsed[:, 0], parsed[:, 1], move.source, reading)
    if reading.z_in is None:
        moved: tuple[np.ndarray, ...] = move(x, y)
    else:
        moved = _raised(x, y, parsed[:, 2] * reading.z_in, move, reading)
    gone = ~np.isfinite(moved[:2]).all(axis=0)
    counts.points += len(parsed)
    counts.lost += int((~np.isfinite(moved).all(axis=0)).sum())
    a, b, *z = (np.where(gone, np.nan, part) for part in moved)
    texts = _shortest(np.column_stack([*_in_order(a, b, move.target, reading, back=True), *z]))
    if rests is None:
        return "\n".join(texts) + "\n"
    return "".join(f"{text}{rest}\n" for text, rest in zip(texts, rests, strict=True))


def _raised(
    x: np.ndarray, y: np.ndarray, metres: np.ndarray, move: CoordinateOperation, reading: CoordinateReading
) -> tuple[np.ndarray, ...]:
    """x, y and heights of the target, from heights in metres."""
    if move.heights is None or not move.changes_heights:
        return *move(x, y), metres / reading.z_out
    return move.with_height(x, y, metres / move.heights.source.unit.factor)


def _shortest(points: np.ndarray) -> list[str]:
    """`x,y` or `x,y,z` of each point, (n, 2 or 3), with the fewest digits that read back the same."""
    if not len(points):
        return []
    text = orjson.dumps(np.ascontiguousarray(points), option=orjson.OPT_SERIALIZE_NUMPY).decode("ascii")
    return text[2:-2].replace("null", "nan").split("],[")


def _fast(lines: list[str], columns: int) -> np.ndarray | None:
    """All lines as plain numbers, (n, columns); None if any is otherwise."""
    try:
        values = np.loadtxt(lines, np.float64, delimiter=",", comments=None, ndmin=2)
    except ValueError:
        return None
    return values if values.shape[1] == columns and np.isfinite(values).all() else None


def _slow(
    lines: list[str], before: int, columns: int, reading: CoordinateReading, counts: _Counts
) -> tuple[np.ndarray, list[str]]:
    points, rests = [], []
    for number, line in enumerate(lines, before + 1):
        if not line.strip():
            continue
        parts = line.rstrip("\r\n").split(",")
        pair = [_number(part) for part in parts[:columns]]
        if len(pair) < columns or None in pair:
            if number == 1 and not any(c.isdigit() for c in "".join(parts[:2])):
                continue  # a heading
            if not reading.keep_going:
                due = "x,y" if columns == 2 else "x,y,z, since heights change,"
                raise InputError(
                    f"line {number} is no point: {line.strip()[:60]!r}",
                    f"{due} is due, as numbers or degrees, minutes and seconds",
                    "correct the line, or leave such lines out with --keep-going",
                )
            counts.bad.append((number, line.strip()[:40]))
            continue
        points.append(pair)
        rests.append("".join("," + part for part in parts[columns:]))
    return np.array(points, dtype=np.float64).reshape(-1, columns), rests


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
    one: np.ndarray, other: np.ndarray, crs: CRS, reading: CoordinateReading, *, back: bool = False
) -> tuple[np.ndarray, np.ndarray]:
    """First and second column as x and y of the inside, or (`back`) the other way round."""
    if reading.axes is not None and isinstance(crs, GeographicCRS | ProjectedCRS):
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


def _lines_of(path: str | None) -> Iterable[str]:
    """Return the lines of a file, or stdin. Raises InputError."""
    if path is None or path == "-":
        return sys.stdin
    try:
        return readings.note(Path(path)).read_text("utf-8").splitlines(keepends=True)
    except (OSError, UnicodeDecodeError) as exc:
        raise InputError(f"{path} cannot be read", str(exc), "check the path") from exc
