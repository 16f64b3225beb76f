"""A raster that goes once around the Earth, without its seam."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from zembrel.geodesy.crs import same
from zembrel.grid.extent import faced, seen_from, turn_of
from zembrel.grid.frame import Array, Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block, Raster
from zembrel.raster.views.place import Reframed, place

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


def facing(source: Raster, frame: Frame) -> Raster:
    """`source` where `frame`, in the same CRS, looks for it: longitudes of 350 and of -10 are one."""
    own = source.frame
    turn = turn_of(own.crs)
    if turn is None or not same(own.crs, frame.crs) or not own.north_up:
        return source
    seen = seen_from(own.bounds, own.crs, frame.bounds)
    if seen == own.bounds:
        return source
    columns = turn / own.cell[0]
    if seen[:3:2] == frame.bounds[:3:2] and abs(columns - round(columns)) < _CLOSED:
        whole = own.crop(Pane(0, 0, own.rows, round(columns)))
        source = Around(source if own.columns == whole.columns else place(source, whole, 0, 0))
    middle = (frame.bounds[0] + frame.bounds[2]) / 2
    west = faced(source.frame.bounds, own.crs, middle)[0]
    away = west - source.frame.bounds[0]
    return _moved(source, away) if away else source


def turns_of(source: Raster, frame: Frame) -> list[Raster]:
    """Return `source` once for each turn around the Earth on which `frame`, in the same CRS, meets it.

    A grid that closes after a whole number of columns is one raster (see `facing`). The cells of another grid
    do not continue across its seam, so it is returned twice where `frame` crosses the seam.
    """
    first = facing(source, frame)
    turn, (west, _, east, _) = turn_of(first.frame.crs), first.frame.bounds
    if turn is None or not same(first.frame.crs, frame.crs) or not first.frame.north_up:
        return [first]
    found, half = [first], first.frame.cell[0] / 2
    for away, begin, end in ((-turn, frame.bounds[0], west), (turn, east, frame.bounds[2])):
        if min(end, east + away) - max(begin, west + away) > half:
            found.append(_moved(first, away))
    return found


def _moved(source: Raster, away: float) -> Raster:
    """Return `source` so many units further east."""
    affine = replace(source.frame.affine, x0=source.frame.affine.x0 + away)
    return Reframed(source, replace(source.frame, affine=affine))


def on_turn(frame: Frame, u: Array) -> Array:
    """Columns as positions of the same places on the turn around the Earth in the middle of `frame`."""
    turn = turn_of(frame.crs)
    if turn is None or not frame.north_up:
        return u
    columns, middle = turn / frame.cell[0], frame.columns / 2
    return middle + np.mod(u - middle + columns / 2, columns) - columns / 2
