"""Voids closed from their rims, as far as a reach goes."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster import kernels
from zembrel.raster.model import Band, Block, Mask, Raster


@dataclass(frozen=True)
class Filled:
    """`source` with each invalid cell that has valid ones within `reach` cells computed from them.

    nearest: take over the nearest, for codes, instead of a mean weighted by distance.
    """

    source: Raster
    reach: float
    nearest: bool = False

    @property
    def frame(self) -> Frame:
        return self.source.frame

    @property
    def bands(self) -> tuple[Band, ...]:
        return self.source.bands

    def cells(self, pane: Pane) -> Block:
        wide = pane.grown(math.ceil(self.reach)).meet(self.source.frame.pane)
        assert wide is not None
        block = self.source.cells(wide)
        rows, columns = pane.within(wide)
        if block.valid is None:
            return Block(block.cells[:, rows, columns].copy())
        if block.anywhere[rows, columns].all() and block.valid.ndim == 2:
            return Block(block.cells[:, rows, columns].copy())
        return self._filled(block, rows, columns)

    def _filled(self, block: Block, rows: slice, columns: slice) -> Block:

        fill = kernels.voids.filled if block.cells.dtype.kind == "f" else kernels.voids.filled_whole
        shape = block.cells[0, rows, columns].shape
        out = np.zeros((block.cells.shape[0], *shape), block.cells.dtype)
        ok = np.zeros(out.shape, np.uint8)
        for band in range(block.cells.shape[0]):
            valid = np.ascontiguousarray(block.valid_of(band)).view(np.uint8)
            cells = np.ascontiguousarray(block.cells[band])
            fill(cells, valid, rows.start, columns.start, self.reach, self.nearest, out[band], ok[band])
        known: Mask = ok.view(bool)
        if known.all():
            return Block(out)
        alike = block.valid is not None and block.valid.ndim == 2
        return Block(out, known[0] if alike else known)
