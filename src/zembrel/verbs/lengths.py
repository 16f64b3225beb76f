"""Lengths that people give, in the units of a frame."""

from __future__ import annotations

from zembrel.grid.frame import Frame
from zembrel.measure import parse_length


def in_crs_units(text: str, frame: Frame) -> float:
    """`20m` in units of the frame's CRS. Raises UsageError for one that does not fit it."""
    kind, factor = (frame.crs.unit.kind, frame.crs.unit.factor) if frame.crs else ("length", 1.0)
    return parse_length(text).in_unit(kind, factor)


def in_cells(text: str, frame: Frame) -> tuple[float, float]:
    """A number of cells, or a length as so many cells along x and y. Raises UsageError."""
    if text.isdigit():
        return float(text), float(text)
    length = in_crs_units(text, frame)
    return length / frame.cell[0], length / frame.cell[1]
