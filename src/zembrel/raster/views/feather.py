"""An outline whose edge fades: opacity as a band of its own."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block, Raster, shared_type
from zembrel.raster.views.outline import Cover

ALPHA = "alpha"  # colour of a band that says how opaque a cell is


@dataclass(frozen=True)
class Feathered:
    """`source` inside `cover`, and a band of opacity that grows from the outline over `width` cells.

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
        return (*self.source.bands, Band(ALPHA, shared_type(self.source.bands).name, colour=ALPHA))

    def cells(self, pane: Pane) -> Block:
        from zembrel.raster.kernels.distance import depth

        block = self.source.cells(pane)
        wide = pane.grown(math.ceil(self.width) + 1)
        inside = self.cover.inside(wide)
        share = (depth(inside.astype(np.uint8), self.width) / self.width)[pane.within(wide)]
        opaque = int(np.iinfo(block.cells.dtype).max)
        alpha = np.ceil(share * opaque).astype(block.cells.dtype)
        known = inside[pane.within(wide)] & block.anywhere
        return Block(
            np.concatenate([block.cells, np.where(known, alpha, 0)[None].astype(alpha.dtype)]), known
        )
