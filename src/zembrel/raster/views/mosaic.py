"""Many rasters of one frame as one."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block, Raster, has_alpha, shared_type
from zembrel.raster.views.opacity import Divided, Multiplied
from zembrel.raster.views.overlap import RasterPiece, combined

FEATHER = 64.0  # cells over which a sheet fades in, if not said


@dataclass(frozen=True)
class Mosaic:
    """`pieces` on one frame; `overlap` says who wins where several are valid."""

    pieces: tuple[RasterPiece, ...]
    frame: Frame
    bands: tuple[Band, ...]
    overlap: str = "first"
    feather: float = FEATHER

    @cached_property
    def _footprints(self) -> npt.NDArray[np.int64]:
        """Top, left, bottom and right of every piece, (4, n)."""
        panes = [piece.footprint for piece in self.pieces]
        return np.array([(p.top, p.left, p.bottom, p.right) for p in panes], np.int64).reshape(-1, 4).T

    def cells(self, pane: Pane) -> Block:
        top, left, bottom, right = self._footprints
        meets = (top < pane.bottom) & (bottom > pane.top) & (left < pane.right) & (right > pane.left)
        pieces = [self.pieces[n] for n in np.flatnonzero(meets)]
        cells = np.zeros((len(self.bands), *pane.shape), shared_type(self.bands))
        return combined(pieces, pane, cells, self.overlap, self.feather)


def mosaic(
    pieces: tuple[RasterPiece, ...], frame: Frame, bands: tuple[Band, ...], overlap: str, feather: float
) -> Raster:
    """The mosaic of `pieces` with `bands`; the rule may make sums of them, or one band of counts."""
    if overlap == "count":
        bands = (Band("sheets", "uint16"),)
    elif overlap == "sum":
        bands = tuple(replace(band, type=_sum_type(band), nodata=None, legend=None) for band in bands)
    if overlap in ("mean", "feather") and has_alpha(bands):
        weighed = tuple(replace(piece, raster=Multiplied(piece.raster)) for piece in pieces)
        return Divided(Mosaic(weighed, frame, weighed[0].raster.bands, overlap, feather), bands)
    return Mosaic(pieces, frame, bands, overlap, feather)


def _sum_type(band: Band) -> str:
    """A type with room for the sum of many sheets."""
    if band.dtype.kind == "f" or band.dtype.itemsize > 2:
        return "float64"
    return "uint32" if band.dtype.kind == "u" else "int32"
