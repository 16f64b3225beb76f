"""A raster as pieces of some levels of detail, each twice as fine as the one above it."""

from __future__ import annotations

import math
from dataclasses import dataclass

from zembrel.grid.frame import Frame
from zembrel.grid.tiling import Bounds, TileAddress, TileRange

PIECE = 512  # cells a side
ALONE = 2048  # cells a side where there is one level, all of whose pieces are shown at once
_SHOWN = PIECE // 2  # pixels from which a piece is shown: the level above has no more detail to give


@dataclass(frozen=True)
class PieceTree:
    """Levels 0 (coarsest) to `levels` - 1 (native) of a frame in degrees."""

    frame: Frame
    levels: int

    @classmethod
    def of(cls, frame: Frame, levels: int | None) -> PieceTree:
        """With so many levels, or as many as bring all into one piece."""
        if levels is None:
            longest = frame.longest
            levels = 1 if longest <= ALONE else 1 + math.ceil(math.log2(longest / PIECE))
        return cls(frame, levels)

    @property
    def cells(self) -> int:
        """Cells along a side of a piece."""
        return PIECE if self.levels > 1 else min(ALONE, self.frame.longest)

    @property
    def pieces(self) -> TileRange:
        """The native pieces."""
        rows, columns = (-(-n // self.cells) for n in self.frame.pane.shape)
        return TileRange(self.levels - 1, 0, 0, columns, rows)

    @property
    def count(self) -> int:
        """Pieces of all levels."""
        return sum(self.pieces.coarser(step).tiles for step in range(self.levels))

    def bounds(self, piece: TileAddress) -> Bounds:
        """West, south, east and north of what of a piece lies in the frame, in degrees."""
        step = 1 << (self.levels - 1 - piece.zoom)
        side = self.cells * step
        bottom = min((piece.row + 1) * side, -(-self.frame.rows // step) * step)
        right = min((piece.column + 1) * side, -(-self.frame.columns // step) * step)
        west, north = self.frame.corners.at(float(piece.column * side), float(piece.row * side))
        east, south = self.frame.corners.at(float(right), float(bottom))
        return west, max(south, -90.0), east, min(north, 90.0)

    def children(self, piece: TileAddress) -> list[TileAddress]:
        """The pieces of the next level that lie in a piece, whether they hold anything or not."""
        column, row = piece.column * 2, piece.row * 2
        return [TileAddress(piece.zoom + 1, column + x, row + y) for y in (0, 1) for x in (0, 1)]

    def share(self, piece: TileAddress) -> float:
        """How long the side of a whole piece is, against the longer side of the frame."""
        return (self.cells << (self.levels - 1 - piece.zoom)) / self.frame.longest

    def pixels(self, piece: TileAddress) -> tuple[int, int]:
        """Pixels along a piece from which, and up to which, it is shown; -1: without an end."""
        low = 0 if piece.zoom == 0 else _SHOWN
        return low, -1 if piece.zoom == self.levels - 1 else 2 * _SHOWN
