"""Words for files, frames, cells and tables, as receipts, errors and `describe` share them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TypeVar

from zembrel.errors import UsageError
from zembrel.geodesy.crs import CRS, label
from zembrel.grid.frame import Frame
from zembrel.measure import show_number
from zembrel.results.receipt import FeatureTotals

Number = TypeVar("Number", int, float)
_PLURALS = {
    "Point": "points", "MultiPoint": "multipoints", "LineString": "lines", "MultiLineString": "multilines",
    "LinearRing": "rings", "Polygon": "polygons", "MultiPolygon": "multipolygons",
}  # fmt: skip


def named(paths: Sequence[Path]) -> str:
    """`6 inputs (a.tif ... f.tif)`, or the one path."""
    if len(paths) == 1:
        return str(paths[0])
    return f"{len(paths)} inputs ({paths[0]} ... {paths[-1]})"


def frame_items(frame: Frame) -> tuple[str, ...]:
    """CRS, cell size and extent in cells, for the receipt."""
    turned = () if frame.north_up else ("turned",)
    nodes = ("values on nodes",) if frame.registration == "node" else ()
    size = f"{frame.columns:,} x {frame.rows:,} cells"
    return (label(frame.crs), show_cell(frame), size, *nodes, *turned)


def show_cell(frame: Frame) -> str:
    """`0.5 m`, `2 x 3 m` or `1 arcsec`."""
    across, along = frame.cell
    unit = unit_sign(frame.crs)
    if unit == "deg" and max(across, along) < 0.1:
        across, along, unit = across * 3600, along * 3600, "arcsec"
    same = abs(across - along) <= 1e-9 * across
    return f"{across:.7g} {unit}" if same else f"{across:.7g} x {along:.7g} {unit}"


def unit_sign(crs: CRS | None) -> str:
    """Short sign of the unit of coordinates."""
    if crs is None:
        return "(no unit)"
    return {"metre": "m", "degree": "deg", "foot": "ft", "US survey foot": "usft"}.get(
        crs.unit.name, crs.unit.name
    )


def show_kinds(totals: FeatureTotals) -> str:
    """`12 polygons`, `3 points and lines`, or what the features are."""
    kinds = [_PLURALS.get(kind, "collections") for kind in totals.kinds]
    words = ", ".join(kinds[:-1]) + " and " * (len(kinds) > 1) + "".join(kinds[-1:]) or "features"
    missing = f", {totals.missing:,} without a geometry" if totals.missing else ""
    return f"{totals.count:,} {words}{missing}"


def show_table(rows: Sequence[Sequence[str]]) -> str:
    """Rows of words in columns, two blanks apart at least."""
    widths = [max(len(row[n]) for row in rows) + 3 for n in range(len(rows[0]))]
    lines = ("".join(f"{cell:<{w}}" for cell, w in zip(row, widths, strict=True)).rstrip() for row in rows)
    return "\n".join(lines) + "\n"


def show_bounds(frame: Frame) -> str:
    """West, south, east and north with as many digits as the cell size asks for."""
    digits = 6 if unit_sign(frame.crs) == "deg" else 2
    return "  ".join(
        f"{side} {show_number(round(value, digits))}"
        for side, value in zip("WSEN", frame.bounds, strict=True)
    )


def number_pair(text: str, sign: str, example: str, kind: Callable[[str], Number]) -> tuple[Number, Number]:
    """The two numbers of `text`, with `sign` between them. Raises UsageError."""
    try:
        one, other = (kind(part) for part in text.split(sign))
    except ValueError as exc:
        raise UsageError(f"{text!r} is not a pair of numbers", "two are needed", f"write {example}") from exc
    return one, other
