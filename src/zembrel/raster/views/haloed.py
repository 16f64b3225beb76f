"""A sheet on another frame whose border cells are computed with its neighbours' cells."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block, Raster
from zembrel.raster.views.reproject import Reproject


@dataclass(frozen=True)
class Haloed:
    """`alone` where it is valid, with the cells that `among` has there.

    alone: the sheet on the frame; among: the same with neighbours around it and in its voids; sheet: its
    cells before, on the frame that `reach` starts from, of which it fills `own`.
    """

    alone: Raster
    among: Raster
    sheet: Raster
    own: Pane
    reach: Reproject

    @property
    def frame(self) -> Frame:
        return self.alone.frame

    @property
    def bands(self) -> tuple[Band, ...]:
        return self.alone.bands

    def cells(self, pane: Pane) -> Block:
        block = self.alone.cells(pane)
        if not self._borders(pane):
            return block
        wide = self.among.cells(pane)
        known = block.valid_of(0) if block.valid is None else block.valid
        return Block(np.where(known, wide.cells, block.cells), block.valid)

    def _borders(self, pane: Pane) -> bool:
        """Whether a cell of `pane` is made of cells beyond the sheet's edge or next to a void in it."""
        wanted = self.reach.window(pane)
        if wanted is None:
            return False
        return wanted.meet(self.own) != wanted or self.sheet.cells(wanted).valid is not None
