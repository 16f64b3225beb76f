"""A raster that goes once around the Earth, without its seam."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block, Raster

_CLOSED = 0.01  # cells by which the columns may miss a full turn


@dataclass(frozen=True)
class Around:
    """`source` with a turn more on each side, so that kernels reach across its first and last column."""

    source: Raster

    @property
    def bands(self) -> tuple[Band, ...]:
        return self.source.bands

    @property
    def frame(self) -> Frame:
        own = self.source.frame
        return own.crop(Pane(0, -own.columns, own.rows, 2 * own.columns))

    def cells(self, pane: Pane) -> Block:
        turn, left, pieces = self.source.frame.columns, pane.left, []
        while left < pane.right:
            right = min(pane.right, (left // turn + 1) * turn)
            begun = left // turn * turn
            pieces.append(self.source.cells(Pane(pane.top, left - begun, pane.bottom, right - begun)))
            left = right
        if len(pieces) == 1:
            return pieces[0]
        cells = np.concatenate([piece.cells for piece in pieces], axis=2)
        if all(piece.valid is None for piece in pieces):
            return Block(cells, None)
        masks = [
            np.broadcast_to(True if piece.valid is None else piece.valid, piece.cells.shape)
            for piece in pieces
        ]
        return Block(cells, np.concatenate(masks, axis=2))


def around(source: Raster) -> Raster:
    """`source` without a seam if it goes once around the Earth; else itself."""
    frame = source.frame
    if frame.crs is None or frame.crs.circuit is None or not frame.north_up:
        return source
    turn = frame.crs.circuit.turn / frame.cell[0]
    return Around(source) if abs(frame.columns - turn) < _CLOSED else source
