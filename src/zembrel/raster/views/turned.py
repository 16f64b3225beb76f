"""A raster turned by quarters: the same cells on the same ground, with north at another side."""

from __future__ import annotations

from dataclasses import dataclass, replace
from fractions import Fraction

import numpy as np

from zembrel.grid.frame import Affine, Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block, Raster


@dataclass(frozen=True)
class Turned:
    """`source` turned clockwise by a quarter: its north comes to lie at the right."""

    source: Raster

    @property
    def frame(self) -> Frame:
        there = self.source.frame
        last = there.rows - 1 if there.registration == "node" else there.rows
        start, a = there.affine.shifted(Fraction(0), Fraction(last)), there.affine
        affine = Affine(start.x0, start.y0, -a.x_row, a.y_col, x_row=a.x_col, y_col=-a.y_row)
        return replace(there, affine=affine, columns=there.rows, rows=there.columns)

    @property
    def bands(self) -> tuple[Band, ...]:
        return self.source.bands

    def cells(self, pane: Pane) -> Block:
        rows = self.source.frame.rows
        block = self.source.cells(Pane(rows - pane.right, pane.top, rows - pane.left, pane.bottom))
        valid = None if block.valid is None else np.rot90(block.valid, -1, axes=(-2, -1))
        return Block(np.ascontiguousarray(np.rot90(block.cells, -1, axes=(-2, -1))), valid)


def turned(source: Raster, quarters: int) -> Raster:
    """`source` turned clockwise by so many quarters."""
    for _ in range(quarters % 4):
        source = Turned(source)
    return source
