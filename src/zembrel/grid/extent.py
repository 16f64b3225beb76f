"""Extents carried from one CRS to another, and the cell size that keeps native resolution."""

from __future__ import annotations

import math

import numpy as np

from zembrel.errors import InputError
from zembrel.geodesy.crs import CRS, GeographicCRS, ProjectedCRS, UnresolvedCRS, label, metres_per_unit, same
from zembrel.geodesy.operation import CoordinateOperation, ground_scale, ground_scales, operation
from zembrel.grid.frame import Array, Frame
from zembrel.grid.pane import Pane

Bounds = tuple[float, float, float, float]
_TRUE = 0.01  # by which a map may stretch lengths and counts as true to scale
_WHOLE = 1e-4  # part of a turn that may lack of a grid that goes around the Earth
_EDGE_POINTS = 257  # along each side; the sag of an edge between two of them is negligible


def operation_of(frame: Frame, target: CRS) -> CoordinateOperation:
    """From the CRS of `frame` to `target`, as is best at the middle of the frame."""
    crs = frame.crs
    assert crs is not None
    place = None
    if not isinstance(crs, UnresolvedCRS):
        lon, lat = crs.to_geographic(
            *frame.corners.at(np.array([frame.columns / 2]), np.array([frame.rows / 2]))
        )
        place = (math.degrees(lon[0]), math.degrees(lat[0]))
    return operation(crs, target, place)


def carried_bounds(frame: Frame, target: CRS) -> Bounds:
    """West, south, east, north in `target` of the outline and inside of `frame`.

    Raises InputError if no point of the frame has coordinates there.
    """
    if frame.crs is None or (same(frame.crs, target) and frame.north_up):
        return frame.bounds
    return outline_bounds(*operation_of(frame, target)(*_lattice(frame)), frame.crs, target)


def outline_bounds(x: Array, y: Array, source: CRS, target: CRS) -> Bounds:
    """Bounds of points already in `target`; an outline across the antimeridian stays one piece."""
    finite = np.isfinite(x) & np.isfinite(y)
    if not finite.any():
        raise InputError(
            f"the extent has no place in {label(target)}",
            f"no point of it, given in {label(source)}, lies in that CRS's domain",
            "choose a CRS for that part of the Earth",
        )
    x, y = x[finite], y[finite]
    if target.circuit is not None:
        middle, turn = target.circuit
        moved = np.where(x < middle, x + turn, x)
        if np.ptp(x) > turn / 2 and np.ptp(moved) < np.ptp(x):
            x = moved
    return float(x.min()), float(y.min()), float(x.max()), float(y.max())


def box_bounds(bounds: Bounds, source: CRS, target: CRS) -> Bounds:
    """A rectangle of `source` as the enclosing rectangle in `target`; west > east crosses 180."""
    west, south, east, north = bounds
    if isinstance(source, GeographicCRS) and west > east:
        east += 360 / source.unit.factor
    if same(source, target):
        return west, south, east, north
    t = np.linspace(0, 1, _EDGE_POINTS)
    across, along = np.meshgrid(west + (east - west) * t, south + (north - south) * t[::8])
    up, beside = np.meshgrid(south + (north - south) * t, west + (east - west) * t[::8])
    x = np.concatenate([across.ravel(), beside.ravel()])
    y = np.concatenate([along.ravel(), up.ravel()])
    return outline_bounds(*operation(source, target)(x, y), source, target)


def _lattice(frame: Frame) -> tuple[Array, Array]:
    t = np.linspace(0, 1, _EDGE_POINTS)
    cols, rows = np.meshgrid(t * frame.columns, t[::8] * frame.rows)
    cols2, rows2 = np.meshgrid(t[::8] * frame.columns, t * frame.rows)
    x, y = frame.corners.at(
        np.concatenate([cols.ravel(), cols2.ravel()]), np.concatenate([rows.ravel(), rows2.ravel()])
    )
    return np.asarray(x), np.asarray(y)


def carried_cell(frame: Frame, target: CRS) -> tuple[float, float]:
    """Cell size in `target` that keeps the native resolution of `frame`, one for both axes.

    Metres stay metres: a size within 2 % of the source's own (in ground units) is the source's. Any
    other is the mapped size at the middle of the frame, rounded to three digits.
    """
    if frame.crs is None or same(frame.crs, target):
        return frame.cell
    middle_x, middle_y = frame.centres(np.array([frame.columns / 2]), np.array([frame.rows / 2]))
    a = frame.affine
    xs = np.array([middle_x[0], middle_x[0] + a.x_col, middle_x[0] + a.x_row])
    ys = np.array([middle_y[0], middle_y[0] + a.y_col, middle_y[0] + a.y_row])
    x, y = operation_of(frame, target)(xs, ys)
    if not np.isfinite([x, y]).all():
        west, south, east, north = carried_bounds(frame, target)
        size = math.sqrt((east - west) * (north - south) / frame.size)
        return (_rounded(size),) * 2
    area = abs((x[1] - x[0]) * (y[2] - y[0]) - (x[2] - x[0]) * (y[1] - y[0]))
    if isinstance(target, GeographicCRS):  # square cells in degrees: keep the finer direction
        along = math.hypot(
            *(metre * d for metre, d in zip(_ground(target, y[0]), (x[2] - x[0], y[2] - y[0]), strict=True))
        )
        return (_rounded(along / metres_per_unit(target, float(y[0]))[1]),) * 2
    size = math.sqrt(area)
    native = frame.cell[0] * _ground(frame.crs, float(middle_y[0]))[0] / target.unit.factor
    if frame.crs.unit.kind == "length" and abs(size / native - 1) < 0.02:
        size = native
        return (
            (size, size)
            if frame.cell[0] == frame.cell[1]
            else (native, native * frame.cell[1] / frame.cell[0])
        )
    return (_rounded(size),) * 2


def _ground(crs: CRS, y: float) -> tuple[float, float]:
    return metres_per_unit(crs, float(y))


def _rounded(size: float) -> float:
    return float(f"{size:.3g}")


def turn_of(crs: CRS | None) -> float | None:
    """Units of x once around the Earth, in a CRS whose world goes on past its edges."""
    return None if crs is None or crs.circuit is None else crs.circuit.turn


def faced(bounds: Bounds, crs: CRS | None, middle: float) -> Bounds:
    """`bounds` moved by whole turns around the Earth so that they lie nearest to x = `middle`."""
    turn = turn_of(crs)
    if turn is None:
        return bounds
    west, south, east, north = bounds
    away = turn * round((middle - (west + east) / 2) / turn)
    return west + away, south, east + away, north


def seen_from(bounds: Bounds, crs: CRS | None, area: Bounds) -> Bounds:
    """`bounds` as an area in the same CRS meets them: on its turn around the Earth, or on several."""
    turn, (west, south, east, north) = turn_of(crs), faced(bounds, crs, (area[0] + area[2]) / 2)
    if turn is None:
        return bounds
    whole = east - west > turn * (1 - _WHOLE)
    again = east - turn > area[0] or west + turn < area[2]  # a part of it comes once more
    if whole or again:
        return area[0], south, area[2], north
    return west, south, east, north


def ground(frame: Frame) -> tuple[float, float]:
    """Metres on the ground in a CRS unit along x and y at the middle of `frame`."""
    west, south, east, north = frame.bounds
    return ground_scale(frame.crs, (west + east) / 2, (south + north) / 2)


def footprint_of(source: Frame, target: Frame) -> Pane | None:
    """The cells of `target` that `source` may reach."""
    bounds = source.bounds if target.crs is None else carried_bounds(source, target.crs)
    if turn_of(target.crs) is not None:
        bounds = seen_from(bounds, target.crs, target.bounds)
    return target.pane_of(*bounds).grown(1).meet(target.pane)


def row_scales(frame: Frame) -> Array:
    """Metres on the ground in a CRS unit along x and y in the middle of each row, (rows, 2).

    A projection counts as true to scale where it is to 1 %.
    """
    rows = np.arange(frame.rows, dtype=np.float64)
    x, y = frame.centres(np.full(rows.size, (frame.columns - 1) / 2), rows)
    here = np.array(metres_per_unit(frame.crs, float(np.mean(y))))
    if isinstance(frame.crs, ProjectedCRS) and np.abs(np.array(ground(frame)) / here - 1).max() < _TRUE:
        return np.tile(here, (frame.rows, 1))
    return ground_scales(frame.crs, np.asarray(x), np.asarray(y))
