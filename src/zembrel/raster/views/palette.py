"""Codes with a legend as red, green and blue."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block, Raster

RGB = tuple(Band(name, "uint8", colour=name) for name in ("red", "green", "blue"))


@dataclass(frozen=True)
class Painted:
    """The first band of `source`, an integer band with a legend, in the legend's colours."""

    source: Raster

    @property
    def frame(self) -> Frame:
        return self.source.frame

    @property
    def bands(self) -> tuple[Band, ...]:
        return RGB

    def cells(self, pane: Pane) -> Block:
        block = self.source.cells(pane)
        legend = self.source.bands[0].legend
        assert legend is not None
        colours = legend.colours_of(block.cells[0])
        valid = None if block.valid is None else block.valid_of(0)
        return Block(np.ascontiguousarray(colours.transpose(2, 0, 1)), valid)


def expand_palette(source: Raster) -> Raster:
    """`source` with its legend's colours as bands, if its first band has a legend."""
    return Painted(source) if source.bands[0].legend is not None else source
