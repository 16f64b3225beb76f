"""Extents carried from one CRS to another, and the cell size that keeps native resolution."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from zembrel.errors import InputError
from zembrel.geodesy.crs import CRS, GeographicCRS, ProjectedCRS, UnresolvedCRS, label, metres_per_unit, same
from zembrel.geodesy.operation import CoordinateOperation, ground_scale, ground_scales, operation
from zembrel.grid.frame import Array, Frame
from zembrel.grid.pane import Pane

Bounds = tuple[float, float, float, float]
Lines = tuple[Array, Array]
_FULL = 90  # parts of a turn: what has no wider gap goes all around
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
    operate = operation_of(frame, target)
    return _bounds_of([_operated(operate, *lines) for lines in _lattices(frame)], frame.crs, target)


def _operated(operate: CoordinateOperation, x: Array, y: Array) -> Lines:
    moved = operate(x.ravel(), y.ravel())
    return np.asarray(moved[0]).reshape(x.shape), np.asarray(moved[1]).reshape(y.shape)


def _bounds_of(lattices: Sequence[Lines], source: CRS, target: CRS) -> Bounds:
    """Bounds of lattices of points in `target`: x and y, (rows, columns), neighbours of which are those on
    the Earth.

    What goes around the Earth has the same bounds wherever it begins; an outline across the antimeridian
    stays one piece.
    """
    finite = [np.isfinite(x) & np.isfinite(y) for x, y in lattices]
    if not any(known.any() for known in finite):
        raise InputError(
            f"the extent has no place in {label(target)}",
            f"no point of it, given in {label(source)}, lies in that CRS's domain",
            "choose a CRS for that part of the Earth",
        )
    y = np.concatenate([up[known] for (_, up), known in zip(lattices, finite, strict=True)])
    south, north = float(y.min()), float(y.max())
    if target.circuit is None:
        x = np.concatenate([across[known] for (across, _), known in zip(lattices, finite, strict=True)])
        return float(x.min()), south, float(x.max()), north
    turn, whole = target.circuit.turn, all(known.all() for known in finite)
    followed = [followed_around(x, turn) for x, _ in lattices] if whole else [None]
    lines = [x for x in followed if x is not None]
    if len(lines) == len(followed):
        lines = [x + turn * round((lines[0].mean() - x.mean()) / turn) for x in lines]
        span = min(float(x.min()) for x in lines), max(float(x.max()) for x in lines)
        west, east = _faced_span(span, *target.circuit)
        return west, south, east, north
    x = np.concatenate([across[known] for (across, _), known in zip(lattices, finite, strict=True)])
    west, east = ends_around(x, *target.circuit)
    if whole and isinstance(target, GeographicCRS):  # a pole lies inside
        south, north = _to_pole(south, north, 90 / target.unit.factor)
    return west, south, east, north


def _to_pole(south: float, north: float, pole: float) -> tuple[float, float]:
    """Latitudes up to the pole that lies inside, which is the one they come nearest to."""
    return (south, pole) if pole - north < pole + south else (-pole, north)


def followed_around(x: Array, turn: float) -> Array | None:
    """Lines of x, all of it known, that go on from neighbour to neighbour, past the edge of the world too.

    None where the lines do not close: a pole lies among them.
    """
    along = np.unwrap(x, period=turn, axis=1)
    first = np.unwrap(along[:, 0], period=turn)
    along = along + (first - along[:, 0])[:, None]
    steps = np.abs(np.diff(along, axis=0))
    return None if steps.size and steps.max() > turn / 2 else along


def ends_around(x: Array, middle: float, turn: float) -> tuple[float, float]:
    """West and east of points that lie anywhere around the Earth: all but the widest gap between them."""
    places = np.unique(np.mod(x - middle + turn / 2, turn))
    gaps = np.diff(places, append=places[0] + turn)
    widest = int(np.argmax(gaps))
    if gaps[widest] < turn / _FULL:
        return middle - turn / 2, middle + turn / 2
    west = float(places[(widest + 1) % places.size]) + middle - turn / 2
    return _faced_span((west, west + turn - float(gaps[widest])), middle, turn)


def _faced_span(span: tuple[float, float], middle: float, turn: float) -> tuple[float, float]:
    """The span by whole turns so that it begins on the map around `middle`; all of it if it is that wide."""
    west, east = span
    if east - west > turn * (1 - _WHOLE):
        return middle - turn / 2, middle + turn / 2
    away = turn * math.floor((west - middle) / turn + 0.5 + 1e-9)
    return west - away, east - away


def box_bounds(bounds: Bounds, source: CRS, target: CRS) -> Bounds:
    """A rectangle of `source` as the enclosing rectangle in `target`; west > east crosses 180."""
    west, south, east, north = bounds
    if isinstance(source, GeographicCRS) and west > east:
        east += 360 / source.unit.factor
    if same(source, target):
        return west, south, east, north
    t = np.linspace(0, 1, _EDGE_POINTS)
    across, up = west + (east - west) * t, south + (north - south) * t
    operate = operation(source, target)
    lattices = (np.meshgrid(across, up[::8]), np.meshgrid(across[::8], up))
    return _bounds_of([_operated(operate, x, y) for x, y in lattices], source, target)


def _lattices(frame: Frame) -> list[Lines]:
    """x and y of points in a frame on many columns of some rows, and on many rows of some columns."""
    t = np.linspace(0, 1, _EDGE_POINTS)
    places = (
        np.meshgrid(t * frame.columns, t[::8] * frame.rows),
        np.meshgrid(t[::8] * frame.columns, t * frame.rows),
    )
    return [(np.asarray(x), np.asarray(y)) for x, y in (frame.corners.at(*place) for place in places)]


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


def begun(bounds: Bounds, crs: CRS | None) -> Bounds:
    """`bounds` by whole turns so that they begin on the map of `crs`; all of it for all the Earth."""
    if crs is None or crs.circuit is None:
        return bounds
    west, east = _faced_span((bounds[0], bounds[2]), *crs.circuit)
    return west, bounds[1], east, bounds[3]


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
