"""True areas of polygons and lengths of lines on the ellipsoid."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt
import shapely

from zembrel.geodesy.around import circles, edges_of
from zembrel.geodesy.crs import CRS, GeographicCRS, ProjectedCRS
from zembrel.geodesy.geodesic import between, destination
from zembrel.geodesy.latitudes import authalic_radius, sine_of_authalic
from zembrel.geodesy.operation import ground_scale
from zembrel.grid.frame import Array, Frame
from zembrel.grid.pane import Pane
from zembrel.measure import Length

Numbers = npt.NDArray[np.float64]
_SMALL, _STEP = 300.0, 100.0  # metres
_STRIP = 256  # cells of the longest edge of a row whose area is taken
_AT_ONCE = 500_000  # corners whose places are held at a time
_ROUND = 128  # edges of a circle at least
_MOST_CORNERS = 4_000_000  # of all circles together: with fewer they are within a tenth of a millimetre
_PIECE = 20_000.0  # metres of a line that are grown on one map


def ground_areas(geometries: npt.NDArray[np.object_], crs: CRS | None, longest: float) -> Numbers:
    """Square metres on the ellipsoid of polygons in `crs`, (n,); without a CRS their areas as they are.

    Edges are cut to pieces of `longest` units first. On the plane of longitude and the sine of the authalic
    latitude areas are true (J. P. Snyder, "Map Projections - A Working Manual", USGS 1395, page 16), and the
    edges of cells in degrees are straight. Of polygons smaller than 300 m the map's area is multiplied by the
    scale in their middle, which is off by less than a part in 10^8.
    """
    if not isinstance(crs, GeographicCRS | ProjectedCRS):
        return np.asarray(shapely.area(geometries))
    bounds = shapely.bounds(geometries)
    plane = _equal_area(crs)
    if isinstance(crs, GeographicCRS):
        small = np.zeros(len(geometries), bool)
    else:
        small = np.hypot(*(bounds[:, 2:] - bounds[:, :2]).T) * crs.unit.factor < _SMALL
    areas: Numbers = np.zeros(len(geometries))
    areas[small] = shapely.area(geometries[small]) * _scales(plane, bounds[small], crs.unit.factor)
    if not small.all():
        cut = np.inf if isinstance(crs, GeographicCRS) else longest
        areas[~small] = _areas_on(geometries[~small], plane, cut)
    return areas


class _Plane(NamedTuple):
    """A plane of true areas in metres: how points (n, 2) are taken to it, x once around the Earth where that
    begins anew, and y of the north pole."""

    to: Callable[[Array], Array]
    turn: float | None
    pole: float


def _areas_on(geometries: npt.NDArray[np.object_], plane: _Plane, longest: float) -> Numbers:
    """Areas of polygons, (n,), on the plane that their corners are taken to, edges in pieces of `longest`."""
    polygons, owner = shapely.get_parts(geometries, return_index=True)
    rings, polygon = shapely.get_rings(polygons, return_index=True)
    if not len(rings):
        return np.zeros(len(geometries))
    batch = np.cumsum(shapely.get_num_coordinates(rings)) // _AT_ONCE
    starts = np.flatnonzero(np.append(True, batch[1:] != batch[:-1]))
    found = np.concatenate([_ring_areas(part, plane, longest) for part in np.split(rings, starts[1:])])
    holes = np.append(False, polygon[1:] == polygon[:-1])
    return np.asarray(np.bincount(owner[polygon], np.where(holes, -found, found), len(geometries)))


def _ring_areas(rings: Any, on: _Plane, longest: float) -> Numbers:
    """What each ring encloses, (n,): one that goes once around the Earth, what lies up to the nearer pole."""
    points, ring = shapely.get_coordinates(rings, return_index=True)
    if not len(points):
        return np.zeros(len(rings))
    last = np.append(ring[1:] != ring[:-1], True)
    steps = np.zeros_like(points)
    steps[:-1] = np.diff(points, axis=0)
    steps[last] = 0.0
    pieces = np.maximum(np.ceil(np.hypot(*steps.T) / longest), 1).astype(np.int64)
    if pieces.max() > 1:
        first = np.repeat(np.cumsum(pieces) - pieces, pieces)
        share = (np.arange(first.size) - first) / np.repeat(pieces, pieces)
        points = np.repeat(points, pieces, axis=0) + share[:, None] * np.repeat(steps, pieces, axis=0)
        ring = np.repeat(ring, pieces)
    starts = np.flatnonzero(np.append(True, ring[1:] != ring[:-1]))
    plane, counts = on.to(points), np.diff(np.append(starts, ring.size))
    if on.turn is not None:
        plane[:, 0] = _unrolled(plane[:, 0], starts, counts, on.turn)
    first = plane[starts]
    plane -= np.repeat(first, counts, axis=0)  # for small numbers
    x, y = plane.T
    twice = np.append(x[:-1] * y[1:] - x[1:] * y[:-1], 0.0)
    ends = np.append(starts[1:], ring.size) - 1
    twice[ends] = 0.0
    if on.turn is not None:
        low, high = (reach.reduceat(y, starts) + first[:, 1] for reach in (np.minimum, np.maximum))
        pole = np.where(on.pole - high < on.pole + low, on.pole, -on.pole) - first[:, 1]
        twice[ends] += 2 * on.turn * np.round(x[ends] / on.turn) * pole
    found = np.zeros(len(rings))
    found[ring[starts]] = np.abs(np.add.reduceat(twice, starts)) / 2
    return found


def _unrolled(x: Numbers, starts: Any, counts: Any, turn: float) -> Numbers:
    """x of rings, (n,), that goes on where the Earth begins anew."""
    steps = np.diff(x, prepend=x[:1])
    steps -= turn * np.round(steps / turn)
    steps[starts] = x[starts]
    along = np.cumsum(steps)
    return np.asarray(along - np.repeat(along[starts] - x[starts], counts))


def cell_areas(frame: Frame, pane: Pane) -> Numbers:
    """Square metres on the ellipsoid of a cell in each row of `pane`, (rows,), the mean of its columns."""
    corners, rows = frame.corners, np.arange(pane.top, pane.bottom + 1, dtype=float)
    lines = [corners.at(np.full(rows.size, float(column)), rows) for column in (pane.left, pane.right)]
    (x0, y0), (x1, y1) = ((np.asarray(x), np.asarray(y)) for x, y in lines)
    x, y = (np.stack([a[:-1], b[:-1], b[1:], a[1:]], axis=1) for a, b in ((x0, x1), (y0, y1)))
    rings = np.stack([x, y], axis=2)
    areas = ground_areas(np.asarray(shapely.polygons(rings), object), frame.crs, _STRIP * min(frame.cell))
    return areas / pane.columns


def _equal_area(crs: GeographicCRS | ProjectedCRS) -> _Plane:
    """The plane of true areas. Shapes in degrees lie there as they are drawn, beyond 180 too."""
    shape = crs.datum.ellipsoid
    radius = authalic_radius(shape)

    def true(points: Array) -> Array:
        lon, lat = crs.to_geographic(points[:, 0], points[:, 1])
        return np.column_stack([lon, sine_of_authalic(shape, lat)]) * radius

    return _Plane(true, None if isinstance(crs, GeographicCRS) else math.tau * radius, radius)


def _scales(plane: _Plane, bounds: Numbers, factor: float) -> Numbers:
    """True area for one of the map's, in the middle of each box."""
    middles = (bounds[:, :2] + bounds[:, 2:]) / 2
    step = _STEP / factor
    across, along = (
        plane.to(middles + move) - plane.to(middles - move)
        for move in (np.array([step, 0.0]), np.array([0.0, step]))
    )
    if plane.turn is not None:
        for moved in (across, along):
            moved[:, 0] -= plane.turn * np.round(moved[:, 0] / plane.turn)
    scales: Numbers = np.abs(across[:, 0] * along[:, 1] - across[:, 1] * along[:, 0]) / (2 * step) ** 2
    return scales


def ground_lengths(geometries: npt.NDArray[np.object_], crs: CRS | None) -> Numbers:
    """Metres along the geodesics between the corners of lines in `crs`, (n,); without a CRS as they are."""
    parts, owner = shapely.get_parts(geometries, return_index=True)
    points, part = shapely.get_coordinates(parts, return_index=True)
    if not isinstance(crs, GeographicCRS | ProjectedCRS) or not len(points):
        return np.asarray(shapely.length(geometries))
    lon, lat = crs.to_geographic(points[:, 0], points[:, 1])
    along, _ = between(crs.datum.ellipsoid, lon[:-1], lat[:-1], lon[1:], lat[1:])
    same = part[1:] == part[:-1]
    lengths: Numbers = np.asarray(np.bincount(owner[part[1:][same]], along[same], len(geometries)), float)
    return lengths


def grown(
    geometries: npt.NDArray[np.object_], crs: GeographicCRS | ProjectedCRS, metres: float
) -> npt.NDArray[np.object_]:
    """Areas of all places within `metres` of geometries in `crs`, along the ellipsoid, (n,).

    Of points they are circles. Others are grown piece by piece on azimuthal equidistant maps around the
    middle of each (J. P. Snyder, USGS 1395, page 191), where distances from the middle are true.
    """
    made = np.array(geometries, object)
    points = shapely.get_type_id(geometries) == 0
    if points.any():
        x, y = shapely.get_x(geometries[points]), shapely.get_y(geometries[points])
        edges = min(edges_of(metres), max(_ROUND, _MOST_CORNERS // x.size))
        made[points] = shapely.polygons(circles(crs, x, y, np.full(x.size, metres), edges))
    others = np.flatnonzero(~points & ~shapely.is_missing(geometries))
    corners = int(shapely.get_num_coordinates(geometries[others]).sum())
    quarter = min(edges_of(metres), max(_ROUND, _MOST_CORNERS // max(corners, 1))) // 4
    for number in others.tolist():
        made[number] = _grown(geometries[number], crs, metres, quarter)
    return made


def _grown(
    geometry: shapely.Geometry, crs: GeographicCRS | ProjectedCRS, metres: float, quarter: int
) -> shapely.Geometry:
    pieces = [geometry] if shapely.get_dimensions(geometry) == 2 else []
    for part in shapely.get_parts(geometry):
        for line in shapely.get_rings(part) if part.geom_type == "Polygon" else (part,):
            pieces += [_around(piece, crs, metres, quarter) for piece in _cut(line, crs)]
    return shapely.union_all(pieces)


def _cut(line: shapely.Geometry, crs: GeographicCRS | ProjectedCRS) -> list[shapely.Geometry]:
    """A line in pieces of about _PIECE metres, or a point."""
    if line.geom_type == "Point":
        return [line]
    x, y = shapely.get_coordinates(line)[0]
    unit = max(ground_scale(crs, float(x), float(y)))
    points = shapely.get_coordinates(shapely.segmentize(shapely.LineString(line.coords), _PIECE / unit))
    along = np.concatenate([[0], np.cumsum(np.hypot(*np.diff(points, axis=0).T))]) * unit
    cuts = np.flatnonzero(np.diff(along // _PIECE)) + 1
    ends = np.unique(np.concatenate([[0], cuts, [len(points) - 1]]))
    return [shapely.LineString(points[a : b + 1]) for a, b in itertools.pairwise(ends.tolist())]


def _around(
    piece: shapely.Geometry, crs: GeographicCRS | ProjectedCRS, metres: float, quarter: int
) -> shapely.Geometry:
    """What lies within `metres` of a short piece; quarter: edges of a quarter of a circle."""
    west, south, east, north = piece.bounds
    middle = crs.to_geographic(np.array([(west + east) / 2]), np.array([(south + north) / 2]))
    shape = crs.datum.ellipsoid

    def flat(points: Array) -> Array:
        lon, lat = crs.to_geographic(points[:, 0], points[:, 1])
        away, azimuth = between(shape, middle[0] + 0 * lon, middle[1] + 0 * lat, lon, lat)
        return np.column_stack([away * np.sin(azimuth), away * np.cos(azimuth)])

    def back(points: Array) -> Array:
        azimuth, away = np.arctan2(points[:, 0], points[:, 1]), np.hypot(points[:, 0], points[:, 1])
        x, y = crs.from_geographic(
            *destination(shape, middle[0] + 0 * away, middle[1] + 0 * away, azimuth, away)
        )
        if isinstance(crs, GeographicCRS):
            whole = 360 / crs.unit.factor
            x = west + np.mod(x - west + whole / 2, whole) - whole / 2
        return np.column_stack([x, y])

    area = shapely.buffer(shapely.transform(piece, flat), metres, quad_segs=quarter)
    return shapely.transform(area, back)


def within_reach(
    geometries: npt.NDArray[np.object_], reach: Length, crs: CRS | None
) -> npt.NDArray[np.object_]:
    """Areas of all places within `reach` of geometries in `crs`: along the ellipsoid, or a bare reach in its
    units. Raises UsageError for a reach that does not fit the CRS.
    """
    if reach.kind == "length" and isinstance(crs, GeographicCRS | ProjectedCRS):
        return grown(geometries, crs, reach.in_unit("length", 1.0))
    return np.asarray(shapely.buffer(geometries, _plain(reach, crs), quad_segs=_ROUND // 4))


def reaches(reach: Length, crs: CRS | None, x: Array, y: Array) -> Array:
    """The half axes, (2, n) units of `crs` along x and y, of what lies within a small `reach` of points."""
    if not (reach.kind == "length" and isinstance(crs, GeographicCRS | ProjectedCRS)):
        return np.full((2, x.size), _plain(reach, crs))
    metres = np.full(x.size, reach.in_unit("length", 1.0))
    rings = circles(crs, x, y, metres, edges=32)
    return np.stack([np.ptp(rings[:, :, n], axis=1) / 2 for n in (0, 1)])


def _plain(reach: Length, crs: CRS | None) -> float:
    return reach.in_unit(crs.unit.kind, crs.unit.factor) if crs is not None else reach.in_unit("length", 1.0)
