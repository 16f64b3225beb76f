"""A raster whose cells come in blocks, each by a request of its own."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Protocol

import numpy as np

from zembrel.errors import RemoteError
from zembrel.formats.blockcache import block_cache
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block, Cells, Raster
from zembrel.sources.service import Dead, KeyedRequest, Service
from zembrel.sources.tilecells import TileCells


class BlockAddresses(Protocol):
    """Where blocks are to be had."""

    def piece(self, row: int, column: int) -> KeyedRequest: ...


@dataclass(frozen=True, eq=False)
class RemoteBlocks:
    """Blocks of one size on a frame; those at its edges may reach beyond it.

    side: rows and columns of a block; dead: keys of blocks that cannot be had, and are void; coarser_ones:
    the same ground in larger cells, finest first.
    """

    service: Service
    addresses: BlockAddresses
    holding: TileCells
    frame: Frame
    side: tuple[int, int]
    dead: frozenset[str] = frozenset()
    coarser_ones: tuple[RemoteBlocks, ...] = field(default=())

    @cached_property
    def bands(self) -> tuple[Band, ...]:
        return self.holding.bands

    @property
    def block_shape(self) -> tuple[int, int]:
        """Rows and columns of a block."""
        return self.side

    def coarser(self, step: float) -> Raster:
        """The coarsest level whose cells are at most `step` times as large."""
        fitting = [one for one in self.coarser_ones if one.frame.cell[0] <= self.frame.cell[0] * step * 1.01]
        return fitting[-1] if fitting else self

    def without(self, dead: Sequence[Dead]) -> RemoteBlocks:
        """The same, where what cannot be had is void."""
        return replace(self, dead=frozenset(one.piece.key for one in dead), coarser_ones=())

    def blocks(self, pane: Pane) -> Iterator[tuple[Pane, KeyedRequest]]:
        """Blocks that meet a pane: their place and piece."""
        down, across = self.side
        for row in range(pane.top // down, -(-pane.bottom // down)):
            for column in range(pane.left // across, -(-pane.right // across)):
                top, left = row * down, column * across
                yield Pane(top, left, top + down, left + across), self.addresses.piece(row, column)

    def cells(self, pane: Pane) -> Block:
        """Raises RemoteError where a block cannot be had."""
        cells = np.zeros((len(self.bands), *pane.shape), self.bands[0].dtype)
        valid = np.zeros(pane.shape, bool)
        wanted = [entry for entry in self.blocks(pane) if entry[1].key not in self.dead]
        self._bring([piece for _, piece in wanted])
        for whole, piece in wanted:
            part = whole.meet(pane)
            held = self._block(piece) if part is not None else None
            if part is None or held is None:
                continue
            into, source = part.within(pane), part.within(whole)
            cells[(slice(None), *into)] = held[(slice(0, len(cells)), *source)]
            valid[into] = held[(-1, *source)] > 0
        return Block(cells, None if valid.all() else valid)

    def _bring(self, pieces: Sequence[KeyedRequest]) -> None:
        """Ask for what is missing, several at a time."""
        missing = self.service.missing(pieces) if len(pieces) > 1 and not self.service.offline else []
        if len(missing) > 1:
            for _, dead in self.service.bring(missing, self.holding.check):
                if dead is not None:
                    raise dead.error

    def _block(self, piece: KeyedRequest) -> Cells | None:
        """Cells of a block, the last of them whether it is valid; None if there is nothing there."""
        kept = self.service.piece(piece, self.holding.check)
        if kept.status != 200:
            return None
        key = self.service.own, piece.key, kept.stored, self.holding.holds
        try:
            return block_cache.get(key, lambda: self._decoded(kept.data))
        except ValueError:
            self.service.drop(piece)  # kept, but wrong: once more
        kept = self.service.piece(piece, self.holding.check)
        try:
            return self._decoded(kept.data) if kept.status == 200 else None
        except ValueError as exc:
            what = f"{piece.request.told} cannot be used"
            raise RemoteError(what, str(exc), "check the source: holds, tile_cells, heights") from exc

    def _decoded(self, data: bytes) -> Cells:
        cells, valid = self.holding.decode(data)
        known = (
            np.ones((1, *cells.shape[1:]), cells.dtype) if valid is None else valid[None].astype(cells.dtype)
        )
        return np.concatenate([cells, known])
