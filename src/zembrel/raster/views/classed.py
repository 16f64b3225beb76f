"""Codes of classes made of values, of other codes, or of conditions."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block, Raster
from zembrel.scratch import ScratchArray


@dataclass(frozen=True, eq=False)
class _Classed:
    """One band of codes, made of the first band of `source`."""

    source: Raster
    band: Band

    @property
    def frame(self) -> Frame:
        return self.source.frame

    @property
    def bands(self) -> tuple[Band, ...]:
        return (self.band,)


@dataclass(frozen=True, eq=False)
class Binned(_Classed):
    """The code of the class that a value lies in: `codes`, one more than `edges`, which belong above."""

    edges: npt.NDArray[np.float64]
    codes: npt.NDArray[np.int64]

    def cells(self, pane: Pane) -> Block:
        block = self.source.cells(pane)
        place = np.searchsorted(self.edges, block.cells[0], side="right")
        codes = self.codes.astype(self.band.dtype)[place]
        return Block(codes[None], None if block.valid is None else block.valid_of(0))


@dataclass(frozen=True, eq=False)
class Recoded(_Classed):
    """New codes for ranges of old ones; others are void, or kept.

    lows and highs: ends of the ranges, both inside, in ascending order, (n,); codes: of each, (n,).
    """

    lows: npt.NDArray[np.int64]
    highs: npt.NDArray[np.int64]
    codes: npt.NDArray[np.int64]
    keep: bool = False

    def cells(self, pane: Pane) -> Block:
        block = self.source.cells(pane)
        old = block.cells[0]
        place = np.maximum(np.searchsorted(self.lows, old, side="right") - 1, 0)
        listed = (old >= self.lows[place]) & (old <= self.highs[place])
        new = np.where(listed, self.codes[place], old if self.keep else 0).astype(self.band.dtype)
        if self.keep or listed.all():
            return Block(new[None], None if block.valid is None else block.valid_of(0))
        return Block(new[None], listed if block.valid is None else listed & block.valid_of(0))


@dataclass(frozen=True, eq=False)
class Chosen(_Classed):
    """Codes as `source` has them, and nothing where that has `nothing`."""

    nothing: int | None = None

    def cells(self, pane: Pane) -> Block:
        block = self.source.cells(pane)
        codes = block.cells[:1]
        if self.nothing is None:
            return Block(codes, None if block.valid is None else block.valid_of(0))
        held = codes[0] != self.nothing
        return Block(codes, held if block.valid is None else held & block.valid_of(0))


@dataclass(frozen=True, eq=False)
class WithCodes(_Classed):
    """`source` with other codes, which stand in a file, (rows, columns)."""

    codes: ScratchArray

    def cells(self, pane: Pane) -> Block:
        block = self.source.cells(pane)
        held = self.codes.values[pane.within(self.frame.pane)]
        return Block(np.array(held)[None], None if block.valid is None else block.valid_of(0))
