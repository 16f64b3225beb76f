"""Frames for services that make pictures of any place, CRS and size."""

from __future__ import annotations

import math
from dataclasses import replace

from zembrel.errors import InputError
from zembrel.geodesy.crs import CRS, GeographicCRS, same
from zembrel.grid.extent import carried_bounds, carried_cell
from zembrel.grid.frame import Affine, Frame, snapped
from zembrel.grid.pane import Pane
from zembrel.sources.sourcefile import SourceFile
from zembrel.sources.wish import MARGIN, Wish

SIDE = 512  # cells of a picture that is asked for
_MOST = 1e9  # cells along a side


def lattice_for(source: SourceFile, wish: Wish, crs: CRS) -> Frame:
    """The frame in `crs` of what is wished for: the very one that the result has, where that is in it.

    Raises InputError where nobody says how fine it shall be.
    """
    wanted = wish.frame
    if wanted is not None and wanted.crs is not None and same(wanted.crs, crs) and wanted.north_up:
        corners = wanted.corners
        cells = Affine(corners.x0, corners.y0, corners.x_col, corners.y_row)
        return Frame(wanted.crs, cells, wanted.columns, wanted.rows)
    bounds = carried_bounds(wanted, crs) if wanted is not None else wish.bounds_in(crs, source.get("bounds"))
    if bounds is None:
        what = f"{source.name} has no bounds"
        raise InputError(
            what, "nobody says which ground is meant", "add --within AREA, or bounds to the source"
        )
    across, along = _cell(source, wish, crs, bounds)
    west, south, east, north = bounds
    west, east = west - MARGIN * across, east + MARGIN * across
    south, north = south - MARGIN * along, north + MARGIN * along
    if isinstance(crs, GeographicCRS):  # there is nothing beyond the poles
        south, north = max(south, -90 / crs.unit.factor), min(north, 90 / crs.unit.factor)
    if max((east - west) / across, (north - south) / along) > _MOST:
        raise InputError(
            f"{source.name} would have far too many cells", f"of {across:g} a side", "choose a larger --cell"
        )
    return snapped(crs, (west, south, east, north), (across, along))


def _cell(
    source: SourceFile, wish: Wish, crs: CRS, bounds: tuple[float, float, float, float]
) -> tuple[float, float]:
    """The size of cells in `crs`. Raises InputError where nobody says it."""
    if wish.frame is not None:
        return carried_cell(wish.frame, crs)
    if wish.cell is not None:
        own = wish.crs or crs
        size = tuple(length.in_unit(own.unit.kind, own.unit.factor) for length in wish.cell)
        if same(own, crs):
            return size[0], size[1]
        middle = snapped(crs, bounds, ((bounds[2] - bounds[0]) / 8, (bounds[3] - bounds[1]) / 8))
        west, south, east, north = carried_bounds(middle, own)
        near = Frame(own, Affine((west + east) / 2, (south + north) / 2, size[0], -size[1]), 1, 1)
        return carried_cell(near, crs)
    if source.get("cell") is not None:
        return (float(source.get("cell")),) * 2
    what = f"{source.name} has no cells of its own"
    raise InputError(
        what, "its server makes pictures of any size", "add --cell 1m, --onto FRAME, or cell to the source"
    )


def apart(frame: Frame) -> list[Frame]:
    """The frame in the world that a service knows; in two where it goes on beyond the edge of that."""
    if frame.crs is None or frame.crs.circuit is None or not frame.north_up:
        return [frame]
    middle, turn = frame.crs.circuit
    first, cell = middle - turn / 2, frame.cell[0]
    turns = math.floor((frame.affine.x0 - first) / turn + 1e-12)
    here = replace(frame, affine=replace(frame.affine, x0=frame.affine.x0 - turns * turn))
    columns = math.ceil((first + turn - here.affine.x0) / cell - 1e-6)
    if columns >= frame.columns:
        return [here]
    left, right = (
        here.crop(Pane(0, 0, frame.rows, columns)),
        here.crop(Pane(0, columns, frame.rows, frame.columns)),
    )
    return [left, replace(right, affine=replace(right.affine, x0=right.affine.x0 - turn))]


def block_side(frame: Frame, most: int) -> tuple[int, int]:
    """Rows and columns of blocks of one size, that hardly reach beyond the frame."""
    down, across = (math.ceil(length / math.ceil(length / most)) for length in (frame.rows, frame.columns))
    return down, across
