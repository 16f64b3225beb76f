"""Many rasters of one frame as one."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zembrel.errors import UsageError, nearest_name
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block, Cells, Mask, Raster, shared_type

RULES = ("first", "last", "min", "max", "mean")


@dataclass(frozen=True)
class Piece:
    """A raster on the mosaic's frame, and the part of it where it may have valid cells."""

    raster: Raster
    footprint: Pane


@dataclass(frozen=True)
class Mosaic:
    """`pieces` on one frame; `overlap` says who wins where several are valid."""

    pieces: tuple[Piece, ...]
    frame: Frame
    bands: tuple[Band, ...]
    overlap: str = "first"

    def cells(self, pane: Pane) -> Block:
        pieces = [piece for piece in self.pieces if piece.footprint.meet(pane)]
        if self.overlap == "last":
            pieces = pieces[::-1]
        cells = np.zeros((len(self.bands), *pane.shape), shared_type(self.bands))
        if self.overlap in ("first", "last"):
            return _first(pieces, pane, cells)
        return _gathered(pieces, pane, cells, self.overlap)


def _first(pieces: list[Piece], pane: Pane, cells: Cells) -> Block:
    """Each cell from the first piece in which all its bands are valid."""
    filled = np.zeros(pane.shape, bool)
    for piece in pieces:
        part = piece.footprint.meet(pane)
        assert part is not None
        rows, columns = part.within(pane)
        if filled[rows, columns].all():
            continue
        block = piece.raster.cells(part)
        if block.valid is None and not filled[rows, columns].any():
            cells[:, rows, columns] = block.cells
            filled[rows, columns] = True
            continue
        fresh = _everywhere(block) & ~filled[rows, columns]
        np.copyto(cells[:, rows, columns], block.cells, where=fresh, casting="unsafe")
        filled[rows, columns] |= fresh
    return Block(cells, None if filled.all() else filled)


def _gathered(pieces: list[Piece], pane: Pane, cells: Cells, overlap: str) -> Block:
    """Smallest, largest or mean value of the pieces that are valid, cell by cell."""
    count = np.zeros(pane.shape, np.int32)
    total = np.zeros(cells.shape, np.float64 if overlap == "mean" else cells.dtype)
    for piece in pieces:
        part = piece.footprint.meet(pane)
        assert part is not None
        rows, columns = part.within(pane)
        block = piece.raster.cells(part)
        valid, seen, here = _everywhere(block), count[rows, columns], total[:, rows, columns]
        if overlap == "mean":
            np.add(here, block.cells, out=here, where=valid)
        else:
            choose = np.minimum if overlap == "min" else np.maximum
            best = np.where(seen > 0, choose(here, block.cells), block.cells)
            np.copyto(here, best, where=valid, casting="unsafe")
        seen += valid
    if overlap == "mean":
        total /= np.maximum(count, 1)
        if cells.dtype.kind in "iu":
            total = np.floor(total + 0.5)
    cells[:] = total
    filled = count > 0
    return Block(cells, None if filled.all() else filled)


def _everywhere(block: Block) -> Mask:
    if block.valid is None:
        return np.ones(block.cells.shape[1:], bool)
    return block.valid if block.valid.ndim == 2 else np.logical_and.reduce(block.valid)


def check_overlap(rule: str) -> None:
    """Raise UsageError, with the near miss, unless `rule` is one of RULES."""
    if rule not in RULES:
        raise UsageError(
            f"there is no overlap rule {rule!r}",
            "it says who wins where sheets overlap",
            nearest_name(rule, RULES),
        )
