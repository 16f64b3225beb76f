"""Lengths that people give, in the units of a frame."""

from __future__ import annotations

from zembrel.geodesy.crs import CRS
from zembrel.grid.frame import Frame
from zembrel.measure import LENGTHS, parse_cell, parse_length
from zembrel.raster.model import Raster
from zembrel.raster.views.cast import cast


def in_units_of(text: str, crs: CRS | None) -> float:
    """`20m` in units of a CRS, metres without one. Raises UsageError for one that does not fit it."""
    kind, factor = (crs.unit.kind, crs.unit.factor) if crs is not None else ("length", 1.0)
    return parse_length(text).in_unit(kind, factor)


def cell_in_units_of(text: str, crs: CRS | None) -> tuple[float, float]:
    """`2m` or `2m/3m`, along x and y, in units of a CRS, metres without one. Raises UsageError."""
    kind, factor = (crs.unit.kind, crs.unit.factor) if crs is not None else ("length", 1.0)
    across, along = parse_cell(text)
    return across.in_unit(kind, factor), along.in_unit(kind, factor)


def in_crs_units(text: str, frame: Frame) -> float:
    """`20m` in units of the frame's CRS. Raises UsageError for one that does not fit it."""
    return in_units_of(text, frame.crs)


def in_metres(heights: Raster) -> Raster:
    """Heights of 64 bits in metres, which they are in already if their unit is not known."""
    factor = float(LENGTHS.get(heights.bands[0].unit, 1))
    wide = cast(heights, "float64")
    return wide if factor == 1.0 else cast(wide, "float64", factor)


def in_cells(text: str, frame: Frame) -> tuple[float, float]:
    """A number of cells, or a length as so many cells along x and y. Raises UsageError."""
    if text.isdigit():
        return float(text), float(text)
    length = in_crs_units(text, frame)
    return length / frame.cell[0], length / frame.cell[1]
