"""Values in the colours of a ramp, shaded if asked."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from zembrel.geodesy.sun import Sun
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block, Mask, Raster
from zembrel.raster.relief import NORTH_WEST, Array, light
from zembrel.raster.views.palette import RGB

_STRIP = 128  # rows


@dataclass(frozen=True, eq=False)
class RampPainted:
    """The first band of `source` in the colours of `table`, (n, 3) bytes from `low` to `high`.

    cell: size along x and y in the unit of the values, if the surface is to be shaded.
    """

    source: Raster
    table: npt.NDArray[np.uint8]
    low: float
    high: float
    cell: tuple[float, float] | None = None
    sun: Sun = NORTH_WEST

    @property
    def frame(self) -> Frame:
        return self.source.frame

    @property
    def bands(self) -> tuple[Band, ...]:
        return RGB

    def cells(self, pane: Pane) -> Block:
        wide = pane.grown(1).meet(self.source.frame.pane) if self.cell else pane
        assert wide is not None
        block = self.source.cells(wide)
        valid, values = block.valid_of(0), block.cells[0]
        made = np.empty((3, *pane.shape), np.uint8)
        for strip in pane.blocks(_STRIP, pane.columns):  # what is made on the way stays small
            near = strip.grown(1).meet(wide) if self.cell else strip
            assert near is not None
            part = near.within(wide)
            made[:, strip.within(pane)[0]] = self._coloured(values[part], valid[part], strip.within(near))
        kept = valid[pane.within(wide)]
        return Block(made, None if kept.all() else kept)

    def _coloured(self, values: Array, valid: Mask, inner: tuple[slice, slice]) -> Array:
        """Red, green and blue, (3, rows, columns), of the inner part of some cells."""
        values = values.astype(np.float64)
        shown = np.where(valid, values, self.low)[inner]
        last = len(self.table) - 1
        with np.errstate(invalid="ignore", over="ignore"):  # what is infinite takes the colour of its end
            place = np.nan_to_num((shown - self.low) / max(self.high - self.low, 1e-300) * last, nan=0.0)
        colours = self.table[np.clip(np.floor(place + 0.5), 0, last).astype(int)]
        if self.cell:
            bright = light(values, valid, self.cell, self.sun)[inner][..., None]
            colours = np.clip(np.floor(colours * bright + 0.5), 0, 255).astype(np.uint8)
        return np.asarray(colours.transpose(2, 0, 1))
