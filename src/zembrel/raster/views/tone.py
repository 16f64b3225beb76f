"""Another tone: values of each band times a gain plus an offset."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block, Raster


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
        cells = block.cells * gains + offsets
        if kind.kind in "iu":
            limits = np.iinfo(kind)
            cells = np.clip(np.floor(cells + 0.5), limits.min, limits.max)
        return Block(cells.astype(kind), block.valid)
