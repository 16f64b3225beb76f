"""Who wins where several rasters are valid: the rules of overlap, cell by cell."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from zembrel.errors import UsageError, nearest_name
from zembrel.grid.pane import Pane
from zembrel.raster import kernels
from zembrel.raster.model import Block, Cells, Mask, Raster
from zembrel.raster.whole import rounded

RULES = ("first", "last", "min", "max", "mean", "median", "sum", "count", "feather", "divide")

_HELD = 64_000_000  # bytes of the values of all pieces that are sorted at once


@dataclass(frozen=True)
class RasterPiece:
    """A raster on the mosaic's frame, and the part of it where it may have valid cells."""

    raster: Raster
    footprint: Pane

    def part(self, pane: Pane) -> Pane:
        """What of `pane`, which meets the footprint, it fills."""
        part = self.footprint.meet(pane)
        assert part is not None
        return part


def check_overlap(overlap: str) -> None:
    """Raise UsageError, with the near miss, unless `overlap` is one of RULES."""
    if overlap not in RULES:
        raise UsageError(
            f"there is no overlap rule {overlap!r}",
            "it says who wins where sheets overlap",
            nearest_name(overlap, RULES),
        )


_GATHERED = ("sum", "min", "max", "count")


def combined(pieces: Sequence[RasterPiece], pane: Pane, cells: Cells, overlap: str, feather: float) -> Block:
    """`pieces` on `pane` by a rule; `cells` (bands, rows, columns) zeros of the result's type.

    feather: cells over which a sheet fades in from its edge.
    """
    if overlap in ("first", "last"):
        return _first(pieces if overlap == "first" else pieces[::-1], pane, cells)
    if overlap == "divide":
        return _divided(pieces, pane, cells)
    if overlap == "feather":
        return _weighed(pieces, pane, cells, lambda piece, part: _faded(piece, part, feather))
    if overlap == "mean":
        return _weighed(pieces, pane, cells, lambda piece, part: _plain(piece.raster.cells(part)))
    if overlap == "median":
        return _middle(pieces, pane, cells)
    if overlap not in _GATHERED:
        raise LookupError(overlap)
    return _gathered(pieces, pane, cells, overlap)


def _first(pieces: Iterable[RasterPiece], pane: Pane, cells: Cells) -> Block:
    """Each cell from the first piece in which all its bands are valid."""
    filled = np.zeros(pane.shape, bool)
    for piece in pieces:
        part = piece.part(pane)
        rows, columns = part.within(pane)
        if filled[rows, columns].all():
            continue
        block = piece.raster.cells(part)
        if block.valid is None and not filled[rows, columns].any():
            cells[:, rows, columns] = block.cells
            filled[rows, columns] = True
            continue
        fresh = everywhere(block) & ~filled[rows, columns]
        np.copyto(cells[:, rows, columns], block.cells, where=fresh, casting="unsafe")
        filled[rows, columns] |= fresh
    return Block(cells, None if filled.all() else filled)


def _divided(pieces: Sequence[RasterPiece], pane: Pane, cells: Cells) -> Block:
    """Each cell from the valid piece whose footprint's centre is nearest; of equals the first."""
    nearest = np.full(pane.shape, np.inf)
    for piece in pieces:
        part = piece.part(pane)
        rows, columns = part.within(pane)
        whole, block = piece.footprint, piece.raster.cells(part)
        down = np.arange(part.top, part.bottom) + 0.5 - (whole.top + whole.bottom) / 2
        across = np.arange(part.left, part.right) + 0.5 - (whole.left + whole.right) / 2
        away = down[:, None] ** 2 + across**2
        fresh = everywhere(block) & (away < nearest[rows, columns])
        np.copyto(cells[:, rows, columns], block.cells, where=fresh, casting="unsafe")
        np.copyto(nearest[rows, columns], away, where=fresh)
    filled = np.isfinite(nearest)
    return Block(cells, None if filled.all() else filled)


def _weighed(
    pieces: Sequence[RasterPiece],
    pane: Pane,
    cells: Cells,
    weigh: Callable[[RasterPiece, Pane], tuple[Cells, Cells]],
) -> Block:
    """Weighted means; `weigh` gives cells and weights (0 where invalid) of a part."""
    total, weight = np.zeros(cells.shape), np.zeros(pane.shape)
    for piece in pieces:
        part = piece.part(pane)
        rows, columns = part.within(pane)
        values, share = weigh(piece, part)
        here = total[:, rows, columns]
        np.add(here, values * share, out=here, where=share > 0)
        weight[rows, columns] += share
    filled = weight > 0
    total /= np.where(filled, weight, 1.0)
    cells[:] = rounded(total, cells.dtype)
    return Block(cells, None if filled.all() else filled)


def _middle(pieces: Sequence[RasterPiece], pane: Pane, cells: Cells) -> Block:
    """The median of the pieces that are valid, in strips that bound what is held of all of them at once."""
    filled = np.zeros(pane.shape, bool)
    rows = max(1, _HELD // (8 * max(len(pieces), 1) * len(cells) * pane.columns))
    for strip in pane.blocks(rows, pane.columns):
        met = [piece for piece in pieces if piece.footprint.meet(strip) is not None]
        beyond = np.iinfo(cells.dtype).max if cells.dtype.kind in "iu" else np.inf
        values = np.full((len(met), len(cells), *strip.shape), beyond, cells.dtype)
        count = np.zeros(strip.shape, np.intp)
        for n, piece in enumerate(met):
            part = piece.part(strip)
            block = piece.raster.cells(part)
            known, into = everywhere(block), part.within(strip)
            np.copyto(values[(n, slice(None), *into)], block.cells, where=known)
            count[into] += known
        if not met:
            continue
        values.sort(axis=0)
        low, high = (np.maximum(count - 1, 0) // 2)[None, None], (count // 2)[None, None]
        pair = [np.take_along_axis(values, np.minimum(n, len(met) - 1), axis=0)[0] for n in (low, high)]
        here, seen = strip.within(pane), count > 0
        halves = rounded(pair[0] / 2 + pair[1] / 2, cells.dtype)
        cells[(slice(None), *here)] = np.where(seen, np.where(pair[0] == pair[1], pair[0], halves), 0)
        filled[here] = seen
    return Block(cells, None if filled.all() else filled)


def _plain(block: Block) -> tuple[Cells, Cells]:
    return block.cells, everywhere(block).astype(np.float64)


def _faded(piece: RasterPiece, part: Pane, width: float) -> tuple[Cells, Cells]:
    """Cells, and weights that grow with the distance from the piece's edge, up to `width` cells."""

    halo = int(np.ceil(width)) + 1
    wide = part.grown(halo)
    inner = wide.meet(piece.raster.frame.pane)
    assert inner is not None
    block = piece.raster.cells(inner)
    known = np.zeros(wide.shape, np.uint8)
    known[inner.within(wide)] = everywhere(block)
    rows, columns = part.within(wide)
    share = (kernels.distance.depth(known, width) / width)[rows, columns].astype(np.float64)
    rows, columns = part.within(inner)
    return block.cells[:, rows, columns], share


def _gathered(pieces: Sequence[RasterPiece], pane: Pane, cells: Cells, overlap: str) -> Block:
    """Smallest, largest, sum or number of the pieces that are valid, cell by cell."""
    count = np.zeros(pane.shape, np.int32)
    for piece in pieces:
        part = piece.part(pane)
        rows, columns = part.within(pane)
        block = piece.raster.cells(part)
        valid, seen, here = everywhere(block), count[rows, columns], cells[:, rows, columns]
        if overlap == "sum":
            np.add(here, block.cells, out=here, where=valid, casting="unsafe")
        elif overlap in ("min", "max"):
            choose = np.minimum if overlap == "min" else np.maximum
            best = np.where(seen > 0, choose(here, block.cells), block.cells)
            np.copyto(here, best, where=valid, casting="unsafe")
        seen += valid
    if overlap == "count":
        cells[:] = count
        return Block(cells)
    filled = count > 0
    return Block(cells, None if filled.all() else filled)


def everywhere(block: Block) -> Mask:
    """Cells valid in all bands."""
    if block.valid is None:
        return np.ones(block.cells.shape[1:], bool)
    return block.valid if block.valid.ndim == 2 else np.logical_and.reduce(block.valid)
