"""The values that bands with a stored scale and offset stand for."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block, Raster


@dataclass(frozen=True)
class Unscaled:
    """`source`, each value times the scale of its band plus its offset, in floats of `type`."""

    source: Raster
    type: str

    @property
    def frame(self) -> Frame:
        return self.source.frame

    @property
    def bands(self) -> tuple[Band, ...]:
        return tuple(
            replace(band, type=self.type, nodata=None, scale=1.0, offset=0.0) for band in self.source.bands
        )

    def cells(self, pane: Pane) -> Block:
        block = self.source.cells(pane)
        scales, offsets = (
            np.array(values)[:, None, None]
            for values in zip(*((band.scale, band.offset) for band in self.source.bands), strict=True)
        )
        return Block((block.cells * scales + offsets).astype(self.type), block.valid)


def unscaled(source: Raster) -> Raster:
    """`source` with the values that its bands stand for; itself if none is scaled."""
    if all((band.scale, band.offset) == (1.0, 0.0) for band in source.bands):
        return source
    short = max(band.dtype.itemsize for band in source.bands) <= 2
    return Unscaled(source, "float32" if short else "float64")
