"""Features counted and summed up per cell of a frame, as rasters computed where they are asked for."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import shapely

from zembrel.errors import UsageError
from zembrel.features.ground import ground_lengths, reaches, within_reach
from zembrel.features.reached import discs
from zembrel.features.scanned import Covered, Scanned, outlines
from zembrel.features.stats import Stat
from zembrel.features.table import FeatureTable
from zembrel.grid.frame import Array, Frame
from zembrel.grid.pane import Pane
from zembrel.measure import Length
from zembrel.raster.kernels import tally as kernel
from zembrel.raster.model import Band, Block, Raster

PER_CELL = ("count", "sum", "mean", "min", "max", "length", "share")
_FINE = 16  # pieces of a cell's width that a line is cut into to be within reach


def per_cell(table: FeatureTable, frame: Frame, stats: Sequence[Stat], reach: Length | None) -> list[Raster]:
    """A raster of one band for each statistic of the features that meet a cell, or come within `reach` of its
    middle; `table` is in the frame's CRS.

    Raises UsageError for a statistic that needs all values at once.
    """
    made: list[Raster] = []
    for stat in stats:
        if stat.name not in PER_CELL or (stat.name == "share" and reach):
            raise UsageError(
                f"--stat {stat.name} per cell{' with a reach' * bool(reach)}",
                f"cells take {', '.join(PER_CELL)}",
                "use --zones for others",
            )
        made.append(_of(table, frame, stat, reach))
    return made


def _of(table: FeatureTable, frame: Frame, stat: Stat, reach: Length | None) -> Raster:
    shapes = table.geometries
    if stat.name == "length":
        return _lengths(table, frame, stat, reach)
    if stat.name == "share":
        areas = shapes[shapely.get_dimensions(shapes) == 2]
        return Covered(
            frame,
            (Band(stat.label, "float32"),),
            outlines([shapely.union_all(areas)], [1.0], frame, turned=True),
        )
    values = np.ones(len(table)) if stat.name == "count" else table.numbers(str(stat.field))
    known = ~np.isnan(values)
    shapes, values = shapes[known], values[known]
    near = discs(shapes, reach, frame.crs) if reach else None
    if near is not None and len(near.zones) == len(shapes):
        drawn = near.outlines(values, frame)
    else:
        drawn = outlines(
            within_reach(shapes, reach, frame.crs) if reach else shapes, values, frame, touching=not reach
        )
    kind = "uint32" if stat.name == "count" else "float64"
    fill = 0.0 if stat.name in ("count", "sum") else None
    return Scanned(frame, (Band(stat.label, kind),), drawn, stat.name, fill)


def _lengths(table: FeatureTable, frame: Frame, stat: Stat, reach: Length | None) -> Raster:
    lines = shapely.get_parts(table.geometries[shapely.get_dimensions(table.geometries) == 1])
    if reach:
        lines = shapely.segmentize(lines, min(frame.cell) / _FINE)
    points, line = shapely.get_coordinates(lines, return_index=True)
    follows = np.flatnonzero(line[1:] == line[:-1])
    ends = np.stack([points[follows], points[follows + 1]], axis=1)
    edges = shapely.linestrings(ends) if len(follows) else np.empty(0, object)
    metres = ground_lengths(edges, frame.crs) if len(follows) else np.empty(0)
    column, row = frame.corners.position(points[:, 0], points[:, 1])
    at = np.column_stack([np.asarray(column), np.asarray(row)])
    whole = np.hstack([at[follows], at[follows + 1]])
    size = None
    if reach:
        middles = (points[follows] + points[follows + 1]) / 2
        size = reaches(reach, frame.crs, middles[:, 0], middles[:, 1]) / np.reshape(frame.cell, (2, 1))
    return Lengths(frame, (Band(stat.label, "float64", unit="m"),), whole, metres, size)


@dataclass(frozen=True, eq=False)
class Lengths:
    """Metres of lines in each cell, or within a reach of its middle.

    edges: (m, 4) in cells of the frame; reach: (2, m) cells along x and y, for each edge, or None.
    """

    frame: Frame
    bands: tuple[Band, ...]
    edges: Array
    metres: Array
    reach: Array | None

    def cells(self, pane: Pane) -> Block:
        out = np.zeros(pane.shape)
        x0, y0, x1, y1 = self.edges.T
        across, along = np.zeros((2, len(x0))) if self.reach is None else self.reach
        near = (np.maximum(x0, x1) >= pane.left - across) & (np.minimum(x0, x1) <= pane.right + across)
        near &= (np.maximum(y0, y1) >= pane.top - along) & (np.minimum(y0, y1) <= pane.bottom + along)
        edges, metres = self.edges[near], self.metres[near]
        if self.reach is not None:
            middles = np.ascontiguousarray((edges[:, :2] + edges[:, 2:]) / 2)
            kernel.discs(middles, metres, across[near], along[near], pane.top, pane.left, out)
        else:
            kernel.lengths(edges, metres, pane.top, pane.left, out)
        return Block(out[None])
