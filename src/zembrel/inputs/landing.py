"""Where a result lands whose name says its frame: a cell of one degree."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from zembrel.errors import UsageError
from zembrel.formats import frame_of_name
from zembrel.geodesy.crs import UnresolvedCRS, same
from zembrel.geodesy.registry import by_code
from zembrel.grid.extent import carried_cell
from zembrel.grid.frame import Frame
from zembrel.inputs.layers import Layer
from zembrel.inputs.options import Where
from zembrel.inputs.within import Resolved, asked_crs, resolve
from zembrel.measure import parse_length

Bounds = tuple[float, float, float, float]
_SAME = 1e-9  # degrees by which steps may differ


def landing(where: Where, out: Path, asked: str | None, layers: Sequence[Layer]) -> Where:
    """`where`, with the frame that the name of the result says, if nothing else that is asked contradicts."""
    if where.onto or where.longest or not layers or frame_of_name(out, asked, 1.0) is None:
        return where
    crs, degrees = layers[0].raster.frame.crs, by_code(4326)
    if crs is None or isinstance(crs, UnresolvedCRS) or not same(asked_crs(where) or degrees, degrees):
        return where
    asked_cell = _cell_in_degrees(where)
    if where.cell and asked_cell is None:
        return where
    finest = asked_cell or min(min(carried_cell(layer.raster.frame, degrees)) for layer in layers)
    named = frame_of_name(out, asked, finest)
    if named is None or (asked_cell is not None and abs(named.cell[1] - asked_cell) > _SAME):
        return where
    area = resolve(where, degrees) if where.within else None
    whole = area is None or (area.polygon is None and _holds(area.bounds, named))
    return replace(where, named=named, mask=where.mask or not whole)


def _cell_in_degrees(where: Where) -> float | None:
    """The cell size that is asked for, if it is one angle."""
    try:
        step = parse_length(where.cell or "")
    except UsageError:
        return None
    return None if step.kind == "length" else step.in_unit("angle", 1.0)


def area_on(frame: Frame, where: Where) -> Resolved | None:
    """The area that is asked for, with its outline: `frame` is not cut to it."""
    if not where.within:
        return None
    return resolve(where, frame.crs).outlined


def _holds(outer: Bounds, cell: Frame) -> bool:
    """Whether bounds reach to the outer nodes of a cell on each side."""
    west, south, east, north = cell.bounds
    across, along = (size / 2 + _SAME for size in cell.cell)
    inner = west + across, south + along, east - across, north - along
    return all(a <= b for a, b in zip((*outer[:2], *inner[2:]), (*inner[:2], *outer[2:]), strict=True))
