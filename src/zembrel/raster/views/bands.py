"""Views that choose, describe and stack bands."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Protocol, runtime_checkable

import numpy as np

from zembrel.errors import InputError
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block, Raster, shared_type


@runtime_checkable
class ReadsBands(Protocol):
    """The ability of some rasters to decode only the bands that are wanted."""

    def with_bands(self, picked: tuple[int, ...]) -> Raster: ...


@dataclass(frozen=True)
class SelectBands:
    """Some bands of `source`, by index from 0, in the given order."""

    source: Raster
    picked: tuple[int, ...]

    @property
    def frame(self) -> Frame:
        return self.source.frame

    @property
    def bands(self) -> tuple[Band, ...]:
        return tuple(self.source.bands[i] for i in self.picked)

    def cells(self, pane: Pane) -> Block:
        block = self.source.cells(pane)
        valid = block.valid
        if valid is not None and valid.ndim == 3:
            valid = valid[list(self.picked)]
        return Block(block.cells[list(self.picked)], valid)


def select_bands(source: Raster, picked: tuple[int, ...]) -> Raster:
    """`source` with the bands `picked`; all of them in their order is the source itself."""
    if picked == tuple(range(len(source.bands))):
        return source
    if isinstance(source, SelectBands):
        picked, source = tuple(source.picked[i] for i in picked), source.source
    return source.with_bands(picked) if isinstance(source, ReadsBands) else SelectBands(source, picked)


@dataclass(frozen=True)
class Relabelled:
    """`source` with other band descriptions (names, nodata, legend) over the same cells."""

    source: Raster
    bands: tuple[Band, ...]

    @property
    def frame(self) -> Frame:
        return self.source.frame

    def cells(self, pane: Pane) -> Block:
        return self.source.cells(pane)


@dataclass(frozen=True)
class Stack:
    """The bands of several rasters on one frame, one after the other."""

    sources: tuple[Raster, ...]
    frame: Frame
    bands: tuple[Band, ...]

    def cells(self, pane: Pane) -> Block:
        blocks = [source.cells(pane) for source in self.sources]
        dtype = shared_type(self.bands)
        cells = np.concatenate([block.cells.astype(dtype, copy=False) for block in blocks])
        if all(block.valid is None for block in blocks):
            return Block(cells)
        layers = [block.valid_of(band) for block in blocks for band in range(block.cells.shape[0])]
        return Block(cells, np.stack(layers))


def stack(sources: tuple[Raster, ...]) -> Raster:
    """All bands of `sources`; names that occur twice are numbered.

    Raises InputError unless all have as many columns and rows.
    """
    frame = sources[0].frame
    for source in sources[1:]:
        if (source.frame.columns, source.frame.rows) != (frame.columns, frame.rows):
            raise InputError(
                f"layers of {frame.columns} x {frame.rows} and "
                f"{source.frame.columns} x {source.frame.rows} cells",
                "bands of one raster share its cells",
                "bring them to one frame with --onto",
            )
    return Stack(sources, frame, _unique([band for source in sources for band in source.bands]))


def _unique(bands: list[Band]) -> tuple[Band, ...]:
    seen: dict[str, int] = {}
    named = []
    for band in bands:
        seen[band.name] = seen.get(band.name, 0) + 1
        again = seen[band.name]
        named.append(band if again == 1 else replace(band, name=f"{band.name}_{again}"))
    return tuple(named)
