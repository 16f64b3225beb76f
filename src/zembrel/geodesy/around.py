"""So far around a point, along the ellipsoid: circles, and steps along the axes of a CRS."""

from __future__ import annotations

import math

import numpy as np

from zembrel.geodesy.crs import GeographicCRS, ProjectedCRS
from zembrel.geodesy.ellipsoid import Array
from zembrel.geodesy.geodesic import between, destination

_EDGES, _MOST_EDGES = 360, 20_000  # of a circle
_INSIDE = 1e-4  # metres by which edges of a circle may lie inside of it
_CLOSE = 1e-9  # of a step's length
_STEPS = 50


def circles(
    crs: GeographicCRS | ProjectedCRS, x: Array, y: Array, metres: Array, edges: int = _EDGES
) -> Array:
    """Closed rings, (n, edges + 1, 2), of the points that lie `metres` along geodesics from x, y.

    All in units of the CRS; longitudes go on past the antimeridian. NaN where the CRS has no place.
    """
    lon, lat = crs.to_geographic(np.asarray(x, float), np.asarray(y, float))
    turns = np.linspace(math.tau, 0, edges + 1)[None] + np.zeros((lon.size, 1))
    away = np.broadcast_to(np.reshape(metres, (-1, 1)), turns.shape)
    from_lon, from_lat = (np.broadcast_to(angle[:, None], turns.shape) for angle in (lon, lat))
    end_lon, end_lat = destination(crs.datum.ellipsoid, from_lon, from_lat, turns, away)
    ring_x, ring_y = crs.from_geographic(end_lon, end_lat)
    if isinstance(crs, GeographicCRS):
        whole = 360 / crs.unit.factor
        ring_x = x[:, None] + np.mod(ring_x - x[:, None] + whole / 2, whole) - whole / 2
    rings = np.stack([ring_x, ring_y], axis=2)
    rings[:, -1] = rings[:, 0]
    return rings


def edges_of(metres: float) -> int:
    """How many edges a circle on the ground needs to lie within a tenth of a millimetre of its polygon."""
    if not 0 < _INSIDE < metres:
        return _EDGES
    return min(max(math.ceil(math.pi / math.acos(1 - _INSIDE / metres)), _EDGES), _MOST_EDGES)


def step(crs: GeographicCRS | ProjectedCRS, x: float, y: float, way: tuple[int, int], metres: float) -> float:
    """Units of the CRS from x, y along an axis (`way` (1, 0) is x, (0, -1) is back along y) to the point that
    lies `metres` away along the geodesic. NaN where there is none.
    """
    lon, lat = crs.to_geographic(np.array([x]), np.array([y]))
    shape, length = crs.datum.ellipsoid, metres / crs.unit.factor
    if isinstance(crs, GeographicCRS):
        length = math.degrees(metres / shape.semi_major) / crs.unit.factor
    for _ in range(_STEPS):
        there = crs.to_geographic(np.array([x + way[0] * length]), np.array([y + way[1] * length]))
        found = float(between(shape, lon, lat, *there)[0][0])
        if not math.isfinite(found) or found <= 0:
            return math.nan
        length *= metres / found
        if abs(found / metres - 1) < _CLOSE:
            return length
    return math.nan
