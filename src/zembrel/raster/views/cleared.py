"""Cells of one colour made void: paper around a map, the sea of a scan."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block, Raster, has_alpha
from zembrel.raster.views.nodata import both


@dataclass(frozen=True)
class Cleared:
    """`source` of colours without the cells whose every band is at most `tolerance` from `colour`."""

    source: Raster
    colour: tuple[int, ...]
    tolerance: int = 0

    @property
    def frame(self) -> Frame:
        return self.source.frame

    @property
    def bands(self) -> tuple[Band, ...]:
        return self.source.bands

    def cells(self, pane: Pane) -> Block:
        block = self.source.cells(pane)
        colours = block.cells[:-1] if has_alpha(self.bands) else block.cells
        wanted = np.array(self.colour[: len(colours)], np.int32)[:, None, None]
        other = (np.abs(colours.astype(np.int32) - wanted) > self.tolerance).any(axis=0)
        anywhere = None if block.valid is None else block.anywhere
        valid = both(anywhere, other)
        return Block(block.cells, None if valid is None or valid.all() else valid)
