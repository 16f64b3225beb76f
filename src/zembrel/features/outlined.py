"""Regions of cells as polygons, their edges those of the cells."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt
import shapely

from zembrel.grid.frame import Array, Frame
from zembrel.raster.kernels import outlines
from zembrel.raster.regions import Found

Integers = npt.NDArray[np.int64]
_MOST_CUT = 0.5  # cells of an edge that go with a corner


class Shapes(NamedTuple):
    """Polygons, or several where parts of a region meet at corners: geometries, values and cells, (n,)."""

    geometries: npt.NDArray[np.object_]
    values: Integers
    cells: Integers


def shapes_of(found: Found, frame: Frame, *, smooth: int = 0) -> Shapes:
    """The regions of `found` in the coordinates of `frame`, holes and all, in its order.

    smooth: how often corners are cut, but those where three regions or more meet.
    """
    count, a = found.values.size, frame.corners
    affine = a.x0, a.x_col, a.x_row, a.y0, a.y_col, a.y_row
    if smooth:
        points, rings = _smoothed(found, frame, smooth)
        x, y = a.at(points[:, 0], points[:, 1])
        points = np.column_stack([np.asarray(x), np.asarray(y)])
    else:
        points, rings = outlines.closed(found.corners, found.starts, found.order, affine)
    parts = np.searchsorted(found.owners, np.arange(count + 1))
    geometries = shapely.from_ragged_array(shapely.GeometryType.POLYGON, points, (rings, parts))
    shells = np.bincount(found.owners[found.outer], minlength=count)
    for owner in np.flatnonzero(shells > 1):
        mine = range(parts[owner], parts[owner + 1])
        lines = [points[rings[n] : rings[n + 1]] for n in mine]
        geometries[owner] = _joined(lines, found.outer[parts[owner] : parts[owner + 1]])
    return Shapes(geometries, found.values, found.cells)


def _smoothed(found: Found, frame: Frame, passes: int) -> tuple[Array, Integers]:
    """Outlines in columns and rows with their corners cut; those of the frame stay."""
    plain = 0.0, 1.0, 0.0, 0.0, 0.0, 1.0
    points, rings = outlines.closed(found.corners, found.starts, found.order, plain)
    marks = found.corners.copy()
    marks[:, 1] = (marks[:, 1] & 1) << 1
    fixed = outlines.closed(marks, found.starts, found.order, plain)[0][:, 1] == 1
    x, y = points.T
    fixed |= ((x == 0) | (x == frame.columns)) & ((y == 0) | (y == frame.rows))
    points, rings, _ = outlines.smoothed(points, rings, fixed, _MOST_CUT, passes)
    return points, rings


def _joined(rings: list[Array], outer: npt.NDArray[np.bool_]) -> shapely.Geometry:
    """Several shells of one region, each with the holes that lie in it."""
    areas = [shapely.Polygon(ring) for ring in rings]
    shells = [area for area, is_shell in zip(areas, outer, strict=True) if is_shell]
    holes: list[list[Array]] = [[] for _ in shells]
    for area, ring, is_shell in zip(areas, rings, outer, strict=True):
        if not is_shell:
            fitting = [n for n, shell in enumerate(shells) if shell.covers(area)]
            holes[min(fitting, key=lambda n: shells[n].area)].append(ring)
    return shapely.MultiPolygon([shapely.Polygon(s.exterior, h) for s, h in zip(shells, holes, strict=True)])
