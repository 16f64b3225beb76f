"""Heights of bands in another unit, or above another surface."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from zembrel.geodesy.operation import CoordinateOperation
from zembrel.grid.frame import Array, Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block, Cells, Raster


@dataclass(frozen=True)
class Heights:
    """`source`, whose bands hold heights: units says in how many metres, None for bands that hold none.

    They become heights of `unit` metres, named `sign`; with an `operation` to the CRS of the frame, heights
    as that CRS means them. Whole numbers become floats, of 32 bits where those hold the source's.
    """

    source: Raster
    units: tuple[float | None, ...]
    unit: float
    sign: str
    operation: CoordinateOperation | None = None

    @property
    def frame(self) -> Frame:
        return self.source.frame

    @cached_property
    def bands(self) -> tuple[Band, ...]:
        return tuple(
            band if unit is None else replace(band, type=_float(band), unit=self.sign, scale=1.0, offset=0.0)
            for band, unit in zip(self.source.bands, self.units, strict=True)
        )

    def cells(self, pane: Pane) -> Block:
        block = self.source.cells(pane)
        made: list[Cells] = []
        for number, (band, unit) in enumerate(zip(self.source.bands, self.units, strict=True)):
            cells = block.cells[number]
            if unit is not None:
                metres = (cells * band.scale + band.offset) * unit
                cells = self._changed(metres, pane).astype(self.bands[number].dtype)
            made.append(cells)
        cells = np.stack([np.asarray(c, np.result_type(*made)) for c in made])
        gone = ~np.isfinite(cells) if cells.dtype.kind == "f" else np.zeros(cells.shape, bool)
        if not gone.any():
            return Block(cells, block.valid)
        valid = np.broadcast_to(True if block.valid is None else block.valid, cells.shape) & ~gone
        return Block(cells, valid[0] if len(cells) == 1 else valid)

    def _changed(self, metres: Array, pane: Pane) -> Array:
        if self.operation is None:
            return metres / self.unit
        heights = self.operation.heights
        assert heights is not None
        rows, cols = np.indices(pane.shape, dtype=np.float64)
        x, y = self.frame.centres(cols + pane.left, rows + pane.top)
        z = metres / heights.source.unit.factor
        return self.operation.heights_at(x, y, z)


def _float(band: Band) -> str:
    return "float32" if band.type == "float32" or band.dtype.itemsize <= 2 else "float64"
