"""Red, green and blue as codes of a palette."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster import kernels
from zembrel.raster.legend import Legend
from zembrel.raster.model import Band, Block, Raster
from zembrel.raster.quantize import LOOKUP_BITS, nearest_table

DITHERS = ("diffusion", "ordered", "none")
_FINE, _FINE_SHARE = 64, 0.85  # colours of a palette whose errors can hardly be seen
_SIDE, _LEAD = 256, 32  # errors run within squares of the frame, begun so many cells earlier


@dataclass(frozen=True)
class Quantized:
    """The first three bands of `source`, bytes, in the nearest colours of `palette`.

    dither: errors spread to the neighbours, a regular pattern, or neither. Blocks do not show: patterns and
    the squares in which errors run are tied to the frame.
    """

    source: Raster
    palette: Legend
    dither: str = "diffusion"

    @property
    def frame(self) -> Frame:
        return self.source.frame

    @property
    def bands(self) -> tuple[Band, ...]:
        return (Band("colour", "uint8", legend=self.palette),)

    @cached_property
    def _table(self) -> npt.NDArray[np.uint8]:
        return nearest_table(self.palette)

    @cached_property
    def _offsets(self) -> npt.NDArray[np.float32]:
        """The pattern (8, 8), as wide as palette colours lie apart; zeros without one."""
        if self.dither != "ordered":
            return np.zeros((8, 8), np.float32)
        order = np.zeros((1, 1))
        for _ in range(3):
            order = np.block([[4 * order, 4 * order + 2], [4 * order + 3, 4 * order + 1]])
        colours = np.array([entry.colour for entry in self.palette.entries], np.float64)
        away = np.linalg.norm(colours[:, None] - colours[None], axis=2)
        np.fill_diagonal(away, np.inf)
        apart = float(away.min(axis=1).mean()) / np.sqrt(3) if len(colours) > 1 else 0.0
        pattern: npt.NDArray[np.float32] = (((order + 0.5) / 64 - 0.5) * apart).astype(np.float32)
        return pattern

    @property
    def _share(self) -> np.float32:
        """How much of an error is handed on: not all with a fine palette, or noise grows."""
        return np.float32(_FINE_SHARE if len(self.palette.entries) >= _FINE else 1.0)

    def cells(self, pane: Pane) -> Block:
        if self.dither == "diffusion":
            return self._diffused(pane)
        block = self.source.cells(pane)
        codes = np.empty(pane.shape, np.uint8)
        cells = np.ascontiguousarray(block.cells[:3])
        kernels.dither.plain(cells, self._table, LOOKUP_BITS, self._offsets, pane.top, pane.left, codes)
        return Block(codes[None], None if block.valid is None else block.anywhere)

    def _diffused(self, pane: Pane) -> Block:
        first_row, first_column = pane.top // _SIDE * _SIDE, pane.left // _SIDE * _SIDE
        last_column = min(-(-pane.right // _SIDE) * _SIDE, self.frame.columns)  # errors also go to the left
        whole = Pane(first_row, first_column, pane.bottom, last_column)
        wide = whole.grown(_LEAD).meet(self.source.frame.pane)
        assert wide is not None
        block = self.source.cells(wide)
        colours = self.palette.table().astype(np.float32)
        out = np.empty(pane.shape, np.uint8)
        for square in whole.blocks(_SIDE, _SIDE):
            part = square.meet(pane)
            if part is None:
                continue
            begun = Pane(square.top - _LEAD, square.left - _LEAD, square.bottom, square.right).meet(wide)
            assert begun is not None
            rows, columns = begun.within(wide)
            codes = np.empty(begun.shape, np.uint8)
            cells = np.ascontiguousarray(block.cells[:3, rows, columns])
            kernels.dither.diffused(cells, self._table, LOOKUP_BITS, colours, self._share, codes)
            out[part.within(pane)] = codes[part.within(begun)]
        rows, columns = pane.within(wide)
        valid = None if block.valid is None else block.anywhere[rows, columns]
        return Block(out[None], valid)
