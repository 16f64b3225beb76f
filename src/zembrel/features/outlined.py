"""Regions of cells as polygons, their edges those of the cells."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt
import shapely

from zembrel.grid.frame import Array, Frame
from zembrel.raster.kernels import regions as kernel
from zembrel.raster.regions import Found

Integers = npt.NDArray[np.int64]


class Shapes(NamedTuple):
    """Polygons, or several where parts of a region meet at corners: geometries, values and cells, (n,)."""

    geometries: npt.NDArray[np.object_]
    values: Integers
    cells: Integers


def shapes_of(found: Found, frame: Frame) -> Shapes:
    """The regions of `found` in the coordinates of `frame`, holes and all, in its order."""
    count = found.values.size
    points, rings = kernel.closed(found.corners, found.starts, found.order, _numbers(frame))
    parts = np.searchsorted(found.owners, np.arange(count + 1))
    geometries = shapely.from_ragged_array(shapely.GeometryType.POLYGON, points, (rings, parts))
    shells = np.bincount(found.owners[found.outer], minlength=count)
    for owner in np.flatnonzero(shells > 1):
        mine = range(parts[owner], parts[owner + 1])
        lines = [points[rings[n] : rings[n + 1]] for n in mine]
        geometries[owner] = _joined(lines, found.outer[parts[owner] : parts[owner + 1]])
    return Shapes(geometries, found.values, found.cells)


def _numbers(frame: Frame) -> tuple[float, ...]:
    """The affine transform from corners of cells to coordinates."""
    a = frame.corners
    return a.x0, a.x_col, a.x_row, a.y0, a.y_col, a.y_row


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
