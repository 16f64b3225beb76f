"""A raster seen through a larger, smaller or moved frame of its own lattice."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block, Raster, nothing


@dataclass(frozen=True)
class Positioned:
    """`source` whose cell (row, column) is this view's first; outside it nothing is valid."""

    source: Raster
    frame: Frame
    row: int
    column: int

    @property
    def bands(self) -> tuple[Band, ...]:
        return self.source.bands

    @property
    def footprint(self) -> Pane | None:
        """The cells of this view that the source has, or None."""
        return self.source.frame.pane.moved(-self.row, -self.column).meet(self.frame.pane)

    def cells(self, pane: Pane) -> Block:
        wanted = pane.moved(self.row, self.column)
        there = wanted.meet(self.source.frame.pane)
        if there is None:
            return nothing(self.bands, pane.shape)
        block = self.source.cells(there)
        if there == wanted:
            return block
        cells = np.zeros((len(self.bands), *pane.shape), block.cells.dtype)
        rows, columns = there.within(wanted)
        cells[:, rows, columns] = block.cells
        each = block.valid is not None and block.valid.ndim == 3
        valid = np.zeros(cells.shape if each else pane.shape, bool)
        valid[..., rows, columns] = True if block.valid is None else block.valid
        return Block(cells, valid)


def place(source: Raster, frame: Frame, row: int, column: int) -> Raster:
    """`source` on `frame`, whose first cell is the source's (row, column); no view for no change."""
    if isinstance(source, Positioned) and source.footprint == source.frame.pane:
        row, column = row + source.row, column + source.column
        source = source.source
    unmoved = (row, column, frame.rows, frame.columns) == (0, 0, source.frame.rows, source.frame.columns)
    return source if unmoved else Positioned(source, frame, row, column)


def crop(source: Raster, pane: Pane) -> Raster:
    """The cells of `pane` alone, which may reach beyond the source."""
    return place(source, source.frame.crop(pane), pane.top, pane.left)


@dataclass(frozen=True)
class Reframed:
    """The cells of `source` said to lie on another frame of as many columns and rows."""

    source: Raster
    frame: Frame

    @property
    def bands(self) -> tuple[Band, ...]:
        return self.source.bands

    def cells(self, pane: Pane) -> Block:
        return self.source.cells(pane)
