"""True areas of polygons and lengths of lines on the ellipsoid."""

from __future__ import annotations

import math

import numpy as np
import numpy.typing as npt
import shapely

from zembrel.geodesy.crs import CRS, GeographicCRS, ProjectedCRS
from zembrel.geodesy.geodesic import between
from zembrel.geodesy.latitudes import authalic_radius, sine_of_authalic
from zembrel.grid.frame import Array

Numbers = npt.NDArray[np.float64]


def ground_areas(geometries: npt.NDArray[np.object_], crs: CRS | None, longest: float) -> Numbers:
    """Square metres on the ellipsoid of polygons in `crs`, (n,); without a CRS their areas as they are.

    Edges are cut to pieces of `longest` units first. On the plane of longitude and the sine of the authalic
    latitude areas are true (J. P. Snyder, "Map Projections - A Working Manual", USGS 1395, page 16), and the
    edges of cells in degrees are straight.
    """
    if not isinstance(crs, GeographicCRS | ProjectedCRS):
        return np.asarray(shapely.area(geometries))
    shape = crs.datum.ellipsoid
    middle = float(np.mean(shapely.bounds(geometries)[:, ::2])) if len(geometries) else 0.0
    origin, _ = crs.to_geographic(np.array([middle]), np.zeros(1))
    first = float(origin[0]) if math.isfinite(float(origin[0])) else 0.0

    def true(points: Array) -> Array:
        lon, lat = crs.to_geographic(points[:, 0], points[:, 1])
        apart = np.mod(lon - first + math.pi, math.tau) - math.pi
        return np.column_stack([apart, sine_of_authalic(shape, lat)])

    dense = geometries if isinstance(crs, GeographicCRS) else shapely.segmentize(geometries, longest)
    areas: Numbers = shapely.area(shapely.transform(dense, true)) * authalic_radius(shape) ** 2
    return areas


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
