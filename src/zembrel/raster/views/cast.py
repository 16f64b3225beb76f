"""Another cell type, with a stated rule for values that do not fit."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block, Cells, Raster, has_alpha
from zembrel.raster.views.opacity import top_of
from zembrel.raster.whole import rounded


@dataclass(frozen=True)
class Cast:
    """`source` in cell type `type`, after value * gain + lift.

    Fractions are rounded to the nearest integer (half up) and values held at the ends of the type's
    range. Whether that loses anything is for the caller to ask first (`range_of`).
    """

    source: Raster
    type: str
    gain: float = 1.0
    lift: float = 0.0

    @property
    def frame(self) -> Frame:
        return self.source.frame

    @property
    def bands(self) -> tuple[Band, ...]:
        plain = self.gain == 1.0 and self.lift == 0.0
        return tuple(
            replace(band, type=self.type, nodata=fitting_nodata(band.nodata, self.type) if plain else None)
            for band in self.source.bands
        )

    def cells(self, pane: Pane) -> Block:
        block = self.source.cells(pane)
        target = np.dtype(self.type)
        if not has_alpha(self.source.bands):
            return Block(self._cast(block.cells, self.gain, self.lift), block.valid)
        ratio = top_of(target) / top_of(block.cells.dtype)  # opacity keeps its share of the whole
        parts = self._cast(block.cells[:-1], self.gain, self.lift), self._cast(block.cells[-1:], ratio, 0.0)
        return Block(np.concatenate(parts), block.valid)

    def _cast(self, cells: Cells, gain: float, lift: float) -> Cells:
        if gain != 1.0 or lift != 0.0:
            cells = cells * gain + lift
        with np.errstate(invalid="ignore", over="ignore"):
            return rounded(cells, np.dtype(self.type))


def cast(source: Raster, wanted: str, gain: float = 1.0, lift: float = 0.0) -> Raster:
    """`source` in cell type `wanted`; the source itself if nothing changes."""
    if gain == 1.0 and lift == 0.0 and all(band.type == wanted for band in source.bands):
        return source
    return Cast(source, wanted, gain, lift)


def fitting_nodata(nodata: float | int | None, wanted: str) -> float | int | None:
    """`nodata` if the type can hold it, else None."""
    dtype = np.dtype(wanted)
    if nodata is None or dtype.kind == "f":
        return nodata
    limits = np.iinfo(dtype)
    fits = float(nodata).is_integer() and limits.min <= nodata <= limits.max
    return int(nodata) if fits else None
