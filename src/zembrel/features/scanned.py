"""Features on the cells of a frame, as a raster that is computed where it is asked for."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import numpy.typing as npt
import shapely

from zembrel.grid.frame import Array, Frame
from zembrel.grid.pane import Pane
from zembrel.raster.kernels import scan
from zembrel.raster.model import Band, Block

RULES = {
    "first": scan.FIRST, "last": scan.LAST, "min": scan.MIN, "max": scan.MAX, "sum": scan.SUM,
    "count": scan.COUNT, "mean": scan.MEAN,
}  # fmt: skip
Integers = npt.NDArray[np.int64]


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
    geometries: Sequence[shapely.Geometry], values: Sequence[float], frame: Frame, *, touching: bool = False
) -> Outlines:
    """`geometries`, in the CRS of `frame`, each with its value; the later ones are drawn over the earlier.

    touching: whether all cells that an outline or a line meets count, not only those whose middles are
    inside or that a thin line steps on.
    """
    edges, counts, kinds, kept, boxes = [], [], [], [], []
    turned = frame.affine.determinant > 0  # then the frame is a mirror image
    for geometry, value in zip(geometries, values, strict=True):
        for kind, part in _parts(geometry, touching):
            lines = list(_lines(part, frame, turned))
            found = np.vstack(lines) if lines else np.empty((0, 4))
            if not len(found):
                continue
            edges.append(found)
            counts.append(len(found))
            kinds.append(kind)
            kept.append(value)
            points = found.reshape(-1, 2)
            boxes.append([*points.min(axis=0), *points.max(axis=0)])
    return Outlines(
        np.vstack(edges) if edges else np.empty((0, 4)),
        np.concatenate([[0], np.cumsum(counts)]).astype(np.int64),
        np.array(kinds, np.int64),
        np.array(kept, float),
        np.array(boxes, float).reshape(-1, 4),
    )


def _parts(geometry: shapely.Geometry, touching: bool) -> Iterator[tuple[int, shapely.Geometry]]:
    """The polygons, lines and points of a geometry, each kind together, and how they are drawn."""
    parts = [part for inner in shapely.get_parts(geometry).tolist() for part in _flat(inner)]
    for dimension, kind in (
        (2, scan.TOUCHED if touching else scan.INSIDE),
        (1, scan.CROSSED if touching else scan.THIN),
        (0, scan.POINT),
    ):
        alike = [p for p in parts if shapely.get_dimensions(p) == dimension and not p.is_empty]
        if alike:
            yield kind, shapely.GeometryCollection(alike)


def _flat(geometry: shapely.Geometry) -> list[shapely.Geometry]:
    """The plain parts of a geometry, however deep they are nested."""
    if not hasattr(geometry, "geoms"):
        return [geometry]
    return [part for inner in geometry.geoms for part in _flat(inner)]


def _lines(collection: shapely.Geometry, frame: Frame, turned: bool) -> Iterator[Array]:
    for part in collection.geoms:
        rings = [part]
        if part.geom_type == "Polygon":
            part = shapely.geometry.polygon.orient(part, -1.0 if turned else 1.0)
            rings = [part.exterior, *part.interiors]
        for ring in rings:
            points = shapely.get_coordinates(ring)
            column, row = frame.corners.position(points[:, 0], points[:, 1])
            line = np.column_stack([np.asarray(column), np.asarray(row)])
            yield np.hstack([line[:-1], line[1:]]) if len(line) > 1 else np.hstack([line, line])


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
