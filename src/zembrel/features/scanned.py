"""Features on the cells of a frame, as a raster that is computed where it is asked for."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import numpy.typing as npt
import shapely

from zembrel.features.table import Geometries, geometry_array
from zembrel.grid.frame import Array, Frame
from zembrel.grid.pane import Pane
from zembrel.raster.kernels import scan
from zembrel.raster.model import Band, Block

RULES = {
    "first": scan.FIRST, "last": scan.LAST, "min": scan.MIN, "max": scan.MAX, "sum": scan.SUM,
    "count": scan.COUNT, "mean": scan.MEAN,
}  # fmt: skip
Integers = npt.NDArray[np.int64]
_ROUNDING = 1e-6  # cells by which a place may miss an edge or a middle of cells by rounding
_POLYGON = 3  # type numbers above are collections


class Outlines(NamedTuple):
    """Edges of features in cells of a frame: edges (m, 4), where those of each begin (n + 1,), how each is
    drawn (n,), its value (n,) and its box of columns and rows (n, 4)."""

    edges: Array
    starts: Integers
    kinds: Integers
    values: Array
    boxes: Array

    def meeting(self, pane: Pane) -> Outlines:
        """Those whose boxes meet `pane`, in their order."""
        west, north, east, south = self.boxes.T
        meets = (east >= pane.left) & (west <= pane.right) & (south >= pane.top) & (north <= pane.bottom)
        chosen = np.flatnonzero(meets)
        counts = self.starts[chosen + 1] - self.starts[chosen]
        starts = np.concatenate([[0], np.cumsum(counts)])
        index = np.arange(starts[-1]) + np.repeat(self.starts[chosen] - starts[:-1], counts)
        return Outlines(
            self.edges[index], starts, self.kinds[chosen], self.values[chosen], self.boxes[chosen]
        )


def outlines(
    geometries: Sequence[shapely.Geometry] | Geometries,
    values: Sequence[float] | Array,
    frame: Frame,
    *,
    touching: bool = False,
    turned: bool = False,
) -> Outlines:
    """`geometries`, in the CRS of `frame`, each with its value; the later ones are drawn over the earlier.

    touching: whether all cells that an outline or a line meets count, not only those whose middles are
    inside or that a thin line steps on; turned: whether polygons have to run one way, for areas.
    """
    shapes, values = geometry_array(geometries), np.asarray(values, float)
    simple = (shapely.get_type_id(shapes) == _POLYGON) & ~shapely.is_empty(shapes)
    if simple.all() and shapes.size and not turned:
        return _of_polygons(shapes, values, frame, scan.TOUCHED if touching else scan.INSIDE)
    mirrored = frame.affine.determinant > 0
    lines, owners, dimensions = _lines(shapes, clockwise=mirrored)
    points, line = shapely.get_coordinates(lines, return_index=True)
    if not len(points):
        none = np.empty(0, np.int64)
        return Outlines(np.empty((0, 4)), np.zeros(1, np.int64), none, np.empty(0), np.empty((0, 4)))
    column, row = frame.corners.position(points[:, 0], points[:, 1])
    at = _settled(np.column_stack([np.asarray(column), np.asarray(row)]))
    sizes = np.bincount(line, minlength=len(lines))
    follows = np.append(line[1:] == line[:-1], False)
    first = np.flatnonzero(follows | (sizes[line] == 1))  # a lone point is an edge to itself
    edges = np.hstack([at[first], at[np.where(follows[first], first + 1, first)]])
    part = (owners * 3 + 2 - dimensions)[line[first]]
    starts = np.flatnonzero(np.append(True, part[1:] != part[:-1]))
    low, high = np.minimum(edges[:, :2], edges[:, 2:]), np.maximum(edges[:, :2], edges[:, 2:])
    boxes = np.hstack([np.minimum.reduceat(low, starts), np.maximum.reduceat(high, starts)])
    kinds = (scan.TOUCHED if touching else scan.INSIDE, scan.CROSSED if touching else scan.THIN, scan.POINT)
    return Outlines(
        edges,
        np.append(starts, len(edges)).astype(np.int64),
        np.array(kinds, np.int64)[part[starts] % 3],
        values[part[starts] // 3],
        boxes,
    )


def _settled(at: Array) -> Array:
    """Positions in cells, those on edges or middles of cells but for rounding exactly there."""
    halves = np.round(2 * at)
    return np.where(np.abs(2 * at - halves) < _ROUNDING, halves / 2, at)


def _of_polygons(shapes: Geometries, values: Array, frame: Frame, kind: int) -> Outlines:
    """The same of plain polygons, whose rings come in one go."""
    _, points, (rings, polygons) = shapely.to_ragged_array(shapes)
    column, row = frame.corners.position(points[:, 0], points[:, 1])
    at = _settled(np.column_stack([np.asarray(column), np.asarray(row)]))
    begins = np.ones(len(at), bool)
    begins[rings[1:] - 1] = False  # a ring ends where it began
    edges = np.hstack([at[:-1], at[1:]])[begins[:-1]]
    starts = np.concatenate([[0], np.cumsum(np.diff(rings) - 1)])[polygons].astype(np.int64)
    low, high = (extreme.reduceat(at, rings[polygons[:-1]]) for extreme in (np.minimum, np.maximum))
    kinds = np.full(len(shapes), kind, np.int64)
    return Outlines(edges, starts, kinds, values, np.hstack([low, high]))


def _lines(geometries: Geometries, *, clockwise: bool) -> tuple[Geometries, Integers, Integers]:
    """All rings, lines and points, which geometry each is of and its dimension; polygons, lines and points
    of a geometry follow each other."""
    parts, owners = shapely.get_parts(geometries, return_index=True)
    while (shapely.get_type_id(parts) > _POLYGON).any():  # collections in collections
        parts, inner = shapely.get_parts(parts, return_index=True)
        owners = owners[inner]
    kept = ~shapely.is_empty(parts)
    parts, owners = parts[kept], owners[kept]
    dimensions = shapely.get_dimensions(parts)
    areas = dimensions == 2
    rings, ring_of = shapely.get_rings(
        shapely.orient_polygons(parts[areas], exterior_cw=clockwise), return_index=True
    )
    lines = np.concatenate([rings, parts[~areas]])
    owners = np.concatenate([owners[areas][ring_of], owners[~areas]])
    dimensions = np.concatenate([np.full(len(rings), 2), dimensions[~areas]])
    order = np.argsort(owners * 3 + 2 - dimensions, kind="stable")
    return lines[order], owners[order], dimensions[order]


@dataclass(frozen=True, eq=False)
class Scanned:
    """One band of what `outlines` put on `frame`, by an overlap rule; `fill` is elsewhere, or nothing is."""

    frame: Frame
    bands: tuple[Band, ...]
    outlines: Outlines
    rule: str = "last"
    fill: float | None = None

    def cells(self, pane: Pane) -> Block:
        here = self.outlines.meeting(pane)
        if self.rule == "last" and (here.kinds == scan.INSIDE).all():
            return self._painted(here, pane)
        out, count = np.zeros(pane.shape), np.zeros(pane.shape, np.int32)
        stamp = np.zeros(pane.shape, np.int32)
        rule = RULES[self.rule]
        facts = here.edges, here.starts, here.kinds, here.values
        scan.claim(*facts, rule, pane.top, pane.left, out, count, stamp)
        if rule == scan.COUNT:
            out = count.astype(float)
        elif rule == scan.MEAN:
            out /= np.maximum(count, 1)
        known = count > 0
        if self.fill is not None:
            out, known = np.where(known, out, self.fill), np.ones(pane.shape, bool)
        return Block(out.astype(self.bands[0].type)[None], None if known.all() else known)

    def _painted(self, here: Outlines, pane: Pane) -> Block:
        """Polygons alone, of which the last counts."""
        out, known = np.zeros(pane.shape, self.bands[0].dtype), np.zeros(pane.shape, np.uint8)
        scan.paint(here.edges, here.starts, here.values.astype(out.dtype), pane.top, pane.left, out, known)
        mask = known.view(bool)
        if self.fill is not None:
            out[~mask] = self.fill
            return Block(out[None])
        return Block(out[None], None if mask.all() else mask)


@dataclass(frozen=True, eq=False)
class Covered:
    """The share of each cell of `frame` that polygons cover, 0 to 1, exact to rounding."""

    frame: Frame
    bands: tuple[Band, ...]
    outlines: Outlines

    def cells(self, pane: Pane) -> Block:
        here = self.outlines.meeting(pane)
        out = np.zeros(pane.shape)
        scan.covered(here.edges, pane.top, pane.left, out)
        return Block(np.clip(out, 0.0, 1.0).astype(self.bands[0].type)[None])
