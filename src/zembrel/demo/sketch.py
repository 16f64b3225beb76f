"""The sketch map: drawn by hand, scanned askew, bent as paper is; and the points that tie it down."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np

from zembrel.demo import island
from zembrel.grid.frame import Affine, Array, Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block
from zembrel.raster.views.palette import RGB

SIZE = (1150, 900)  # columns and rows of the scan
_CELL, _TURN = 9.5, math.radians(4.0)  # metres of a cell, and by how much the sheet lay askew
_BENT = 18.0  # cells by which the paper is out of shape at its corners
_PAPER, _SEA, _INK = (236, 226, 200), (203, 214, 204), (84, 72, 58)
_CONTOUR = 60.0  # metres between drawn lines
_COLUMNS, _ROWS = (90, 330, 575, 820, 1060), (80, 450, 820)
WRONG = 7  # the number of the point whose easting was miscopied, from 1
_MISCOPIED = 900.0  # metres: an 8 for a 9


def ground(columns: Array, rows: Array) -> tuple[Array, Array]:
    """Metres from the island's middle at places of the scan."""
    u, v = columns - SIZE[0] / 2, rows - SIZE[1] / 2
    s, t = u / (SIZE[0] / 2), v / (SIZE[1] / 2)
    u, v = u + _BENT * (s * t - 0.5 * t * t), v + _BENT * (0.7 * s * s - 0.3 * s * t)
    x = _CELL * (u * math.cos(_TURN) - v * math.sin(_TURN))
    y = -_CELL * (u * math.sin(_TURN) + v * math.cos(_TURN))
    return x, y


@dataclass(frozen=True)
class Sketch:
    """The scan: paper, the sea in a wash, the coast and lines of equal height in ink."""

    frame: Frame = field(default_factory=lambda: Frame(None, Affine(0.0, 0.0, 1.0, -1.0), *SIZE))
    bands: tuple[Band, ...] = RGB

    def cells(self, pane: Pane) -> Block:
        wide = pane.grown(1)
        cols, rows = np.meshgrid(np.arange(wide.left, wide.right), np.arange(wide.top, wide.bottom))
        x, y = ground(*((axis.ravel() + 0.5).astype(np.float64) for axis in (cols, rows)))
        heights = island.heights(x, y).reshape(wide.shape)
        steps = np.where(heights > 0, np.floor(heights / _CONTOUR), -1)
        inked = (steps[1:-1, 1:-1] != steps[1:-1, 2:]) | (steps[1:-1, 1:-1] != steps[2:, 1:-1])
        colours = np.where(steps[1:-1, 1:-1, None] < 0, _SEA, _PAPER)
        colours = np.where(inked[..., None], _INK, colours)
        grain = ((cols * 7919 + rows * 104_729) % 11 - 5)[1:-1, 1:-1, None]
        return Block(np.clip(colours + grain, 0, 255).astype(np.uint8).transpose(2, 0, 1).copy())


def ties() -> str:
    """Tie points as CSV: where grid crosses on the sketch lie, and what was written beside them."""
    lines = ["name,column,row,x,y"]
    for number, (row, column) in enumerate(((r, c) for r in _ROWS for c in _COLUMNS), 1):
        x, y = ground(np.array([float(column)]), np.array([float(row)]))
        east, north = island.MIDDLE[0] + x[0], island.MIDDLE[1] + y[0]
        east += _MISCOPIED if number == WRONG else 0.0
        lines.append(f"cross {number},{column},{row},{round(east)},{round(north)}")
    return "\n".join(lines) + "\n"
