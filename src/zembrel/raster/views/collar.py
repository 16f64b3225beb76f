"""Collars: near-black borders around a photo, where nobody said that nothing is there."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block, Mask, Raster
from zembrel.raster.views.opacity import colours_of

NEAR_BLACK = 4  # highest value in every band that still counts as collar
FRINGE = 2  # cells next to the collar whose colour was mixed with it
_STRIP = 512


@dataclass(frozen=True)
class Collar:
    """Where the dark runs end that begin at each border.

    left, right: (rows,) first and one past the last kept column; top, bottom: (columns,) likewise.
    A photo's valid part is convex, so each cell of its collar lies on a dark run from a border.
    """

    left: npt.NDArray[np.int64]
    right: npt.NDArray[np.int64]
    top: npt.NDArray[np.int64]
    bottom: npt.NDArray[np.int64]

    @property
    def share(self) -> float:
        """Part of the raster that dark runs along the rows cover, 0 to 1."""
        kept = np.maximum(self.right - self.left, 0).sum()
        return 1.0 - float(kept) / (self.left.size * self.top.size)

    def kept(self, pane: Pane) -> Mask:
        """Cells of `pane` outside the collar and its fringe."""
        rows, cols = np.arange(pane.top, pane.bottom), np.arange(pane.left, pane.right)
        across = (cols >= self.left[rows, None] + self._rim(self.left[rows], 0)[:, None]) & (
            cols < self.right[rows, None] - self._rim(self.right[rows], self.top.size)[:, None]
        )
        down = (rows[:, None] >= self.top[cols] + self._rim(self.top[cols], 0)) & (
            rows[:, None] < self.bottom[cols] - self._rim(self.bottom[cols], self.left.size)
        )
        kept: Mask = across & down
        return kept

    @staticmethod
    def _rim(end: npt.NDArray[np.int64], border: int) -> npt.NDArray[np.int64]:
        """FRINGE where a run was found, 0 where the photo reaches the border."""
        return np.where(end == border, 0, FRINGE)


def find_collar(source: Raster, near_black: int = NEAR_BLACK) -> Collar:
    """The collar of `source`, in one pass over its cells; cells that are invalid count as dark."""
    colours = colours_of(source)
    height, width = source.frame.rows, source.frame.columns
    left, right = np.full(height, width), np.zeros(height, np.int64)
    top, bottom = np.full(width, height), np.zeros(width, np.int64)
    for pane in source.frame.pane.blocks(_STRIP, width):
        block = colours.cells(pane)
        bright = (block.cells > near_black).any(axis=0) & block.anywhere
        lit_rows, lit_cols = bright.any(axis=1), bright.any(axis=0)
        at = np.flatnonzero(lit_rows) + pane.top
        left[at] = bright[lit_rows].argmax(axis=1)
        right[at] = width - bright[lit_rows, ::-1].argmax(axis=1)
        first, last = bright.argmax(axis=0), pane.rows - bright[::-1].argmax(axis=0)
        top[lit_cols] = np.minimum(top[lit_cols], pane.top + first[lit_cols])
        bottom[lit_cols] = np.maximum(bottom[lit_cols], pane.top + last[lit_cols])
    return Collar(left, right, top, bottom)


@dataclass(frozen=True)
class Trimmed:
    """`source` without its collar."""

    source: Raster
    collar: Collar

    @property
    def frame(self) -> Frame:
        return self.source.frame

    @property
    def bands(self) -> tuple[Band, ...]:
        return self.source.bands

    def cells(self, pane: Pane) -> Block:
        block = self.source.cells(pane)
        kept = self.collar.kept(pane)
        return Block(block.cells, kept if block.valid is None else block.valid & kept)
