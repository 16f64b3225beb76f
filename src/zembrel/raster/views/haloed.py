"""A sheet on another frame whose border cells are computed with its neighbours' cells."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.method import Method
from zembrel.raster.model import Band, Block, Raster
from zembrel.raster.views.mosaic import FEATHER, mosaic
from zembrel.raster.views.overlap import RasterPiece
from zembrel.raster.views.reproject import Reproject, on_frame

SPARE = 2  # cells of halo beyond what kernels reach


def with_neighbours(
    own: Raster,
    beside: Sequence[tuple[Raster, Callable[[Frame], Pane | None]]],
    target: Frame,
    method: Method,
    bring: Callable[[Raster], Raster],
) -> tuple[Raster, Raster]:
    """A sheet on `target` whose border cells know its neighbours, and that with all they give.

    beside: neighbours, and the cells of a frame that each may reach; bring: puts a raster on `target`.
    """
    frame_of_own = own.frame
    probe = Reproject(own, target, method)
    reach = method.kind.radius
    halo = math.ceil(reach * max(1.0, probe.coordinates.largest_scale)) + SPARE
    frame = frame_of_own.crop(frame_of_own.pane.grown(halo))
    sheet = on_frame(own, frame, "nearest")
    place = frame_of_own.pane.moved(halo, halo)
    around = [RasterPiece(sheet, place)]
    for other, footprint_on in beside:
        footprint = footprint_on(frame)
        if footprint is not None:
            around.append(RasterPiece(on_frame(other, frame, method), footprint))
    wide = mosaic(tuple(around), frame, own.bands, "first", FEATHER)
    among = bring(wide)
    return Haloed(bring(sheet), among, sheet, place, Reproject(wide, target, method)), among


@dataclass(frozen=True)
class Haloed:
    """`alone` where it is valid, with the cells that `among` has there.

    alone: the sheet on the frame; among: the same with neighbours around it and in its voids; sheet: its
    cells before, on the frame that `reach` starts from, of which it fills `own`.
    """

    alone: Raster
    among: Raster
    sheet: Raster
    own: Pane
    reach: Reproject

    @property
    def frame(self) -> Frame:
        return self.alone.frame

    @property
    def bands(self) -> tuple[Band, ...]:
        return self.alone.bands

    def cells(self, pane: Pane) -> Block:
        block = self.alone.cells(pane)
        if not self._borders(pane):
            return block
        wide = self.among.cells(pane)
        known = block.valid_of(0) if block.valid is None else block.valid
        return Block(np.where(known, wide.cells, block.cells), block.valid)

    def _borders(self, pane: Pane) -> bool:
        """Whether a cell of `pane` is made of cells beyond the sheet's edge or next to a void in it."""
        wanted = self.reach.window(pane)
        if wanted is None:
            return False
        return wanted.meet(self.own) != wanted or self.sheet.cells(wanted).valid is not None
