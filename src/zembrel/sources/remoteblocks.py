"""A raster whose cells come in blocks, each by a request of its own."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property, partial
from typing import Protocol

import numpy as np

from zembrel.errors import RemoteError
from zembrel.formats.blockcache import block_cache
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block, Cells, Raster
from zembrel.sources.service import Dead, Service
from zembrel.sources.tilecells import TileCells
from zembrel.web.asking import Request
from zembrel.web.cache import Kept

_NOTHING = Kept(0.0, 404, "", None, b"")


class BlockAddresses(Protocol):
    """Where blocks are to be had."""

    def piece(self, row: int, column: int) -> Request: ...


@dataclass(frozen=True, eq=False)
class RemoteBlocks:
    """Blocks of one size on a frame; those at its edges may reach beyond it.

    side: rows and columns of a block; there: keys of the blocks that were downloaded, all others are nodata;
    None to download blocks when they are read; coarser_ones: the same ground in larger cells, finest first.
    """

    service: Service
    addresses: BlockAddresses
    holding: TileCells
    frame: Frame
    side: tuple[int, int]
    there: frozenset[str] | None = None
    picked: tuple[int, ...] | None = None  # bands, None for all
    coarser_ones: tuple[RemoteBlocks, ...] = field(default=())

    @cached_property
    def bands(self) -> tuple[Band, ...]:
        bands = self.holding.bands
        return bands if self.picked is None else tuple(bands[n] for n in self.picked)

    def with_bands(self, picked: tuple[int, ...]) -> Raster:
        """Some bands of it."""
        own = picked if self.picked is None else tuple(self.picked[n] for n in picked)
        return replace(
            self, picked=own, coarser_ones=tuple(replace(one, picked=own) for one in self.coarser_ones)
        )

    @property
    def block_shape(self) -> tuple[int, int]:
        """Rows and columns of a block."""
        return self.side

    def coarser(self, step: float) -> Raster:
        """The coarsest level whose cells are at most `step` times as large."""
        fitting = [one for one in self.coarser_ones if one.frame.cell[0] <= self.frame.cell[0] * step * 1.01]
        return fitting[-1] if fitting else self

    def brought(self, wanted: Iterable[Request], dead: Iterable[Dead]) -> RemoteBlocks:
        """Return a raster of the downloaded blocks: `wanted` without `dead`. It makes no further requests."""
        there = {piece.key for piece in wanted} - {one.piece.key for one in dead}
        return replace(self, there=frozenset(there), coarser_ones=())

    def blocks(self, pane: Pane) -> Iterator[tuple[Pane, Request]]:
        """Blocks that meet a pane: their place and piece."""
        down, across = self.side
        for row in range(pane.top // down, -(-pane.bottom // down)):
            for column in range(pane.left // across, -(-pane.right // across)):
                top, left = row * down, column * across
                yield Pane(top, left, top + down, left + across), self.addresses.piece(row, column)

    def cells(self, pane: Pane) -> Block:
        """Raises RemoteError where a block cannot be had."""
        cells = np.empty((len(self.bands), *pane.shape), self.bands[0].dtype)
        valid: Cells | None = None
        wanted = list(self.blocks(pane))
        self._bring([piece for _, piece in wanted])
        for whole, piece in wanted:
            part = whole.meet(pane)
            if part is None:
                continue
            held = self._held(piece)
            into, source = part.within(pane), part.within(whole)
            count = len(self.holding.bands)
            for band, n in zip(cells, self.picked or range(count), strict=True):
                band[into] = held[n][source] if len(held) else 0
            if len(held) == count:
                continue
            valid = np.ones(pane.shape, bool) if valid is None else valid
            valid[into] = held[(-1, *source)] > 0 if len(held) else False
        return Block(cells, valid)

    def _held(self, piece: Request) -> Cells:
        """The cells of a block, see `_decoded`."""
        if self.there is not None and piece.key not in self.there:
            return self._cells(_NOTHING)
        return block_cache.get(self._key(piece), partial(self._decoded, piece))

    def _bring(self, pieces: Sequence[Request]) -> None:
        """Ask for what is missing, several at a time."""
        if self.there is not None or self.service.offline or len(pieces) < 2:
            return
        missing = self.service.missing([piece for piece in pieces if self._key(piece) not in block_cache])
        if len(missing) > 1:
            for _, dead in self.service.bring(missing, self.holding.check):
                if dead is not None:
                    raise dead.error

    def _key(self, piece: Request) -> tuple[str, str, str]:
        return self.service.own, piece.key, self.holding.holds

    def _decoded(self, piece: Request) -> Cells:
        """The bands of a block, and behind them where they are valid, unless that is everywhere; none at all
        where there is nothing. What was kept and is no tile is asked for again, once."""
        kept = self.service.piece(piece, self.holding.check)
        try:
            return self._cells(kept)
        except ValueError:
            self.service.drop(piece)
        kept = self.service.piece(piece, self.holding.check)
        try:
            return self._cells(kept)
        except ValueError as exc:
            what = f"{piece.told} cannot be used"
            raise RemoteError(what, str(exc), "check the source: holds, tile_cells, heights") from exc

    def _cells(self, kept: Kept) -> Cells:
        if kept.status != 200:
            return np.empty((0, *self.side), self.bands[0].dtype)
        cells, valid = self.holding.decode(kept.data)
        return cells if valid is None else np.concatenate([cells, valid[None].astype(cells.dtype)])
