"""Nodata values turned into validity: the only place where the two meet inside the model."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import ALPHA, Band, Block, Cells, Mask, Raster, has_alpha, is_photo


def nodata_mask(cells: Cells, bands: tuple[Band, ...]) -> Mask | None:
    """Where cells (bands, rows, columns) are neither nodata nor NaN; None: nothing to tell.

    A photo's cell is nodata only if all its bands are; other bands stand each for themselves.
    """
    layers = [_valid(layer, band) for layer, band in zip(cells, bands, strict=True)]
    found = [layer for layer in layers if layer is not None]
    if not found:
        return None
    if len(layers) == 1:
        return found[0]
    if is_photo(bands):
        photo: Mask = np.logical_or.reduce(found)
        return photo
    return np.stack([np.ones(cells.shape[1:], bool) if layer is None else layer for layer in layers])


def _valid(layer: Cells, band: Band) -> Mask | None:
    nan = layer.dtype.kind == "f"
    valid: Mask | None = ~np.isnan(layer) if nan else None
    if band.nodata is None or (nan and np.isnan(band.nodata)):
        return valid
    unlike: Mask = layer != band.nodata
    return unlike if valid is None else valid & unlike


def both(one: Mask | None, other: Mask | None) -> Mask | None:
    """Valid in both; None means everywhere. A mask of one layer counts for all."""
    if one is None or other is None:
        return other if one is None else one
    return one & other


def says_nodata(source: Raster) -> bool:
    """Whether a file has its own word for where nothing is: a value, a mask, or opacity."""
    told = has_alpha(source.bands) or any(band.nodata is not None for band in source.bands)
    return told or getattr(source, "mask", None) is not None


@dataclass(frozen=True)
class WithNodata:
    """`source` in which `nodata` means nothing, for files that do not say so."""

    source: Raster
    nodata: float

    @property
    def frame(self) -> Frame:
        return self.source.frame

    @property
    def bands(self) -> tuple[Band, ...]:
        return tuple(
            band if band.colour == ALPHA else replace(band, nodata=self.nodata) for band in self.source.bands
        )

    def cells(self, pane: Pane) -> Block:
        block = self.source.cells(pane)
        valid = both(block.valid, nodata_mask(block.cells, self.bands))
        return Block(block.cells, None if valid is None or valid.all() else valid)
