"""True areas of polygons and lengths of lines on the ellipsoid."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
import numpy.typing as npt
import shapely

from zembrel.geodesy.crs import CRS, GeographicCRS, ProjectedCRS
from zembrel.geodesy.geodesic import between
from zembrel.geodesy.latitudes import authalic_radius, sine_of_authalic
from zembrel.grid.frame import Array

Numbers = npt.NDArray[np.float64]
_SMALL, _STEP = 300.0, 100.0  # metres


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
    to_plane = _equal_area(crs, bounds)
    if isinstance(crs, GeographicCRS):
        small = np.zeros(len(geometries), bool)
    else:
        small = np.hypot(*(bounds[:, 2:] - bounds[:, :2]).T) * crs.unit.factor < _SMALL
    areas: Numbers = np.zeros(len(geometries))
    areas[small] = shapely.area(geometries[small]) * _scales(to_plane, bounds[small], crs.unit.factor)
    large = geometries[~small]
    dense = large if isinstance(crs, GeographicCRS) else shapely.segmentize(large, longest)
    areas[~small] = shapely.area(shapely.transform(dense, to_plane))
    return areas


def _equal_area(crs: GeographicCRS | ProjectedCRS, bounds: Numbers) -> Callable[[Array], Array]:
    """Points (n, 2) in `crs` as places on a plane of true areas, in metres; around the middle of `bounds`."""
    shape = crs.datum.ellipsoid
    radius = authalic_radius(shape)
    middle = float(np.nanmean(bounds[:, ::2])) if np.isfinite(bounds).any() else 0.0
    origin, _ = crs.to_geographic(np.array([middle]), np.zeros(1))
    first = float(origin[0]) if math.isfinite(float(origin[0])) else 0.0

    def true(points: Array) -> Array:
        lon, lat = crs.to_geographic(points[:, 0], points[:, 1])
        apart = np.mod(lon - first + math.pi, math.tau) - math.pi
        return np.column_stack([apart, sine_of_authalic(shape, lat)]) * radius

    return true


def _scales(to_plane: Callable[[Array], Array], bounds: Numbers, factor: float) -> Numbers:
    """True area for one of the map's, in the middle of each box."""
    middles = (bounds[:, :2] + bounds[:, 2:]) / 2
    step = _STEP / factor
    east, north = np.array([step, 0.0]), np.array([0.0, step])
    across = (to_plane(middles + east) - to_plane(middles - east)) / (2 * step)
    along = (to_plane(middles + north) - to_plane(middles - north)) / (2 * step)
    scales: Numbers = np.abs(across[:, 0] * along[:, 1] - across[:, 1] * along[:, 0])
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
