"""An outline whose edge fades: opacity as a band of its own."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster import kernels
from zembrel.raster.model import ALPHA, Band, Block, Raster, has_alpha, shared_type
from zembrel.raster.views.outline import Cover


@dataclass(frozen=True)
class Feathered:
    """`source` inside `cover`, its opacity growing from the outline over `width` cells.

    source: unsigned integers; the outline is not to reach beyond what `cover` can be asked for.
    """

    source: Raster
    cover: Cover
    width: float

    @property
    def frame(self) -> Frame:
        return self.source.frame

    @property
    def bands(self) -> tuple[Band, ...]:
        if has_alpha(self.source.bands):
            return self.source.bands
        return (*self.source.bands, Band(ALPHA, shared_type(self.source.bands).name, colour=ALPHA))

    def cells(self, pane: Pane) -> Block:

        block = self.source.cells(pane)
        wide = pane.grown(math.ceil(self.width) + 1)
        inside = self.cover.inside(wide)
        share = (kernels.distance.depth(inside.astype(np.uint8), self.width) / self.width)[pane.within(wide)]
        opaque = int(np.iinfo(block.cells.dtype).max)
        known = inside[pane.within(wide)] & block.anywhere
        before = block.cells[-1] if has_alpha(self.source.bands) else opaque
        alpha = np.where(known, np.ceil(share * before), 0).astype(block.cells.dtype)
        colours = block.cells[: len(self.bands) - 1]
        return Block(np.concatenate([colours, alpha[None]]), known)
