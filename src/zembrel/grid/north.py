"""True north, as it lies on a grid."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from zembrel.geodesy.crs import CRS, ProjectedCRS
from zembrel.grid.frame import Array, Frame
from zembrel.grid.pane import Pane

_NODES = 64  # cells between two nodes
_STEP = 1e-6  # radians of latitude


def north_at(crs: CRS | None, x: Array, y: Array) -> Array:
    """Degrees clockwise from grid north to true north at places in `crs`, (n,); 0 where nothing tells."""
    if not isinstance(crs, ProjectedCRS):
        return np.zeros(np.shape(x))
    lon, lat = crs.to_geographic(x, y)
    east, north = crs.from_geographic(lon, lat + _STEP)
    turned = np.degrees(np.arctan2(east - x, north - y))
    return np.where(np.isfinite(turned), turned, 0.0)


@dataclass(frozen=True)
class TrueNorth:
    """How far true north is turned from that of the grid of a frame, clockwise."""

    frame: Frame

    def degrees(self, pane: Pane) -> Array:
        """(rows, columns) of a pane, by interpolation between nodes that lie the same whatever the pane."""
        rows, columns = (np.arange(first // _NODES, -(-last // _NODES) + 1) * _NODES for first, last in (
            (pane.top, pane.bottom), (pane.left, pane.right)))  # fmt: skip
        at_column, at_row = (grid.astype(float).ravel() for grid in np.meshgrid(columns, rows))
        x, y = self.frame.centres(at_column, at_row)
        turn = np.radians(north_at(self.frame.crs, np.asarray(x), np.asarray(y))).reshape(
            rows.size, columns.size
        )
        parts = [
            _between(part, np.arange(pane.top, pane.bottom), np.arange(pane.left, pane.right))
            for part in (np.sin(turn), np.cos(turn))
        ]
        return np.asarray(np.degrees(np.arctan2(*parts)))

    def middle(self) -> float:
        """In the middle of the frame."""
        frame = self.frame
        x, y = frame.centres(np.array([(frame.columns - 1) / 2]), np.array([(frame.rows - 1) / 2]))
        return float(north_at(frame.crs, np.asarray(x), np.asarray(y))[0])


def _between(nodes: Array, rows: Any, columns: Any) -> Array:
    """Values between nodes, of which the first lies at the last multiple before the first row and column."""
    for lines in (rows, columns):
        part = (lines % _NODES) / _NODES
        first = lines // _NODES - lines[0] // _NODES
        nodes = nodes[first] * (1 - part)[:, None] + nodes[first + 1] * part[:, None]
        nodes = nodes.T
    return nodes
