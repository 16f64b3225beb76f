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
    owners, starts, corners = _apart(found)
    if not owners.size:
        return Shapes(np.empty(0, object), found.values, found.cells)
    lengths = np.diff(starts)
    ring = np.repeat(np.arange(owners.size), lengths)
    after = np.arange(len(corners)) + 1
    after[starts[1:] - 1] = starts[:-1]
    x, y = corners[:, 0].astype(float), corners[:, 1].astype(float)
    twice = np.bincount(ring, x * y[after] - x[after] * y, owners.size)
    outer = twice > 0  # rows grow downwards, and regions lie on the right
    order = np.lexsort((~outer, owners))  # region by region, shells first
    owners, outer, lengths, starts = owners[order], outer[order], lengths[order], starts[:-1][order]
    ends = np.cumsum(lengths + 1)  # each ring comes back to its first corner
    index = np.arange(ends[-1]) - np.repeat(ends - lengths - 1 - starts, lengths + 1)
    index[ends - 1] = starts
    east, north = frame.corners.at(x[index], y[index])
    points = np.column_stack([np.asarray(east), np.asarray(north)])
    rings = np.concatenate([[0], ends])
    parts = np.searchsorted(owners, np.arange(found.values.size + 1))
    geometries = shapely.from_ragged_array(shapely.GeometryType.POLYGON, points, (rings, parts))
    shells = np.bincount(owners[outer], minlength=found.values.size)
    for owner in np.flatnonzero(shells > 1):
        mine = range(parts[owner], parts[owner + 1])
        lines = [points[rings[n] : rings[n + 1]] for n in mine]
        geometries[owner] = _joined(lines, outer[parts[owner] : parts[owner + 1]])
    return Shapes(geometries, found.values, found.cells)


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


def _apart(found: Found) -> tuple[Integers, Integers, Integers]:
    """Outlines that meet themselves at a corner as several that do not: owners, starts and corners."""
    lengths = np.diff(found.starts)
    ring = np.repeat(np.arange(lengths.size), lengths)
    marks = np.bincount(ring, found.corners[:, 2], lengths.size)
    touching = np.flatnonzero(marks >= 2)
    if not touching.size:
        return found.owners, found.starts, found.corners[:, :2]
    chosen = np.zeros(lengths.size, bool)
    chosen[touching] = True
    numbers, begins, parts = kernel.loops(found.corners, found.starts, touching)
    kept = found.corners[~chosen[ring], :2]
    all_lengths = np.concatenate([lengths[~chosen], np.diff(begins)])
    starts = np.concatenate([[0], np.cumsum(all_lengths)]).astype(np.int64)
    return np.concatenate([found.owners[~chosen], found.owners[numbers]]), starts, np.vstack([kept, parts])
