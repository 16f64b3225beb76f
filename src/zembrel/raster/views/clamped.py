"""Values held within two ends."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block, Raster


@dataclass(frozen=True)
class Clamped:
    """`source` with no value below `low` or above `high`."""

    source: Raster
    low: float
    high: float

    @property
    def frame(self) -> Frame:
        return self.source.frame

    @property
    def bands(self) -> tuple[Band, ...]:
        return self.source.bands

    def cells(self, pane: Pane) -> Block:
        block = self.source.cells(pane)
        return Block(np.clip(block.cells, self.low, self.high).astype(block.cells.dtype), block.valid)
