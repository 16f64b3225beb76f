"""Which cells of a frame a polygon covers."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt
import shapely

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane

Array = npt.NDArray[np.float64]
Mask = npt.NDArray[np.bool_]


@dataclass(frozen=True)
class PolygonCover:
    """Cells of `frame` inside `polygon`, which is in the frame's CRS.

    A cell is inside if its middle is (even-odd rule); with `touching` also if the outline meets it.
    """

    frame: Frame
    polygon: shapely.Geometry
    touching: bool = False

    @cached_property
    def _edges(self) -> Array:
        """Edges as column, row, column, row in cells of the frame, shape (n, 4)."""
        parts = []
        for ring in _rings(self.polygon):
            points = shapely.get_coordinates(ring)
            col, row = self.frame.corners.position(points[:, 0], points[:, 1])
            line = np.column_stack([np.asarray(col), np.asarray(row)])
            parts.append(np.hstack([line[:-1], line[1:]]))
        return np.vstack(parts) if parts else np.empty((0, 4))

    def inside(self, pane: Pane) -> Mask:
        """(rows, columns) of `pane`."""
        turns = np.zeros((pane.rows, pane.columns + 1), np.uint8)
        rows, cols = self._crossings(pane)
        np.bitwise_xor.at(turns, (rows, cols), 1)
        covered = np.bitwise_xor.accumulate(turns, axis=1)[:, :-1].astype(bool)
        if self.touching:
            covered |= self._touched(pane)
        return covered

    def _crossings(self, pane: Pane) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.int64]]:
        """Where edges cross the middles of the pane's rows: row, and first cell after the crossing."""
        edges = self._edges
        low, high = np.minimum(edges[:, 1], edges[:, 3]), np.maximum(edges[:, 1], edges[:, 3])
        first = np.maximum(np.ceil(low - 0.5), pane.top).astype(np.int64)  # middle >= low
        last = np.minimum(np.ceil(high - 0.5) - 1, pane.bottom - 1).astype(np.int64)  # middle < high
        meets = last >= first
        edges, first, last = edges[meets], first[meets], last[meets]
        counts = last - first + 1
        edge = np.repeat(np.arange(len(edges)), counts)
        rows = np.arange(counts.sum()) - np.repeat(np.cumsum(counts) - counts, counts) + first[edge]
        x0, y0, x1, y1 = edges[edge].T
        x = x0 + (rows + 0.5 - y0) * (x1 - x0) / (y1 - y0)
        cols = np.clip(np.ceil(x - 0.5), pane.left, pane.right).astype(np.int64)
        return rows - pane.top, cols - pane.left

    def _touched(self, pane: Pane) -> Mask:
        touched = np.zeros(pane.shape, bool)
        x0, y0, x1, y1 = self._edges.T
        near = (np.maximum(x0, x1) >= pane.left) & (np.minimum(x0, x1) <= pane.right)
        near &= (np.maximum(y0, y1) >= pane.top) & (np.minimum(y0, y1) <= pane.bottom)
        for edge in self._edges[near]:
            middles = _cells_along(edge)
            cols, rows = np.floor(middles).astype(np.int64).T
            here = (rows >= pane.top) & (rows < pane.bottom) & (cols >= pane.left) & (cols < pane.right)
            touched[rows[here] - pane.top, cols[here] - pane.left] = True
        return touched


def _cells_along(edge: Array) -> Array:
    """One point in every cell that the edge runs through, (n, 2)."""
    (x0, y0, x1, y1), cuts = edge, [np.array([0.0, 1.0])]
    for a, b in ((x0, x1), (y0, y1)):
        if a != b:
            lines = np.arange(np.ceil(min(a, b)), np.floor(max(a, b)) + 1)
            cuts.append((lines - a) / (b - a))
    at = np.unique(np.clip(np.concatenate(cuts), 0, 1))
    middle = (at[:-1] + at[1:]) / 2
    return np.column_stack([x0 + middle * (x1 - x0), y0 + middle * (y1 - y0)])


def _rings(polygon: shapely.Geometry) -> list[shapely.Geometry]:
    parts = shapely.get_parts(polygon)
    return [ring for part in parts for ring in (part.exterior, *part.interiors)]
