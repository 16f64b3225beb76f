"""Another tone: values of each band times a gain plus an offset."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block, Raster
from zembrel.raster.whole import rounded


@dataclass(frozen=True)
class Toned:
    """`source` with each band times its gain plus its offset, rounded and held in its type's range."""

    source: Raster
    gains: tuple[float, ...]
    offsets: tuple[float, ...]

    @property
    def frame(self) -> Frame:
        return self.source.frame

    @property
    def bands(self) -> tuple[Band, ...]:
        return self.source.bands

    def cells(self, pane: Pane) -> Block:
        block = self.source.cells(pane)
        kind = block.cells.dtype
        gains, offsets = (np.reshape(v, (-1, 1, 1)).astype(np.float64) for v in (self.gains, self.offsets))
        return Block(rounded(block.cells * gains + offsets, kind), block.valid)
