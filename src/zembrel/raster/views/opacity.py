"""Opacity: a last band that says how opaque each cell is, from 0 to the top of its type.

It is unassociated: colours are stored as they are, not multiplied by it. A cell of opacity 0 is invalid.
Whatever weighs colours weighs them by their opacity (T. Porter, T. Duff, "Compositing digital images",
SIGGRAPH 1984), so that what nearly cannot be seen hardly counts.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.method import Method
from zembrel.raster.model import ALPHA, Band, Block, Cells, Raster, has_alpha, shared_type
from zembrel.raster.views.bands import select_bands
from zembrel.raster.whole import rounded


def top_of(kind: np.dtype[Any]) -> float:
    """The value of a cell that is not to be seen through: the type's largest, 1 for fractions."""
    return float(np.iinfo(kind).max) if kind.kind in "iu" else 1.0


def colours_of(source: Raster) -> Raster:
    """`source` without its opacity, if it has one."""
    return select_bands(source, tuple(range(len(source.bands) - 1))) if has_alpha(source.bands) else source


def multiplied(cells: Cells) -> Cells:
    """Cells (bands, rows, columns), the last band opacity, as fractions with the others multiplied by it."""
    exact = np.float32 if cells.dtype.itemsize <= 2 else np.float64
    made: Cells = cells.astype(exact)
    made[-1] /= top_of(cells.dtype)
    made[:-1] = made[:-1] * made[-1]
    return made


def divided(cells: Cells, kind: np.dtype[Any]) -> Cells:
    """The way back from `multiplied`, in type `kind`; colours of opacity 0 are 0."""
    top = top_of(kind)
    alpha = np.clip(cells[-1], 0.0, 1.0)
    made = np.empty(cells.shape, cells.dtype)
    made[:-1] = cells[:-1] / np.where(alpha > 0, alpha, 1)
    made[:-1, alpha <= 0] = 0
    made[-1] = alpha * top
    return rounded(made, kind)


@dataclass(frozen=True)
class Multiplied:
    """`source`, whose last band is opacity, with the other bands multiplied by it, as fractions."""

    source: Raster

    @property
    def frame(self) -> Frame:
        return self.source.frame

    @property
    def bands(self) -> tuple[Band, ...]:
        kind = "float32" if shared_type(self.source.bands).itemsize <= 2 else "float64"
        return tuple(replace(band, type=kind, nodata=None) for band in self.source.bands)

    def cells(self, pane: Pane) -> Block:
        block = self.source.cells(pane)
        return Block(multiplied(block.cells), block.valid)


@dataclass(frozen=True)
class Divided:
    """The way back from `Multiplied`, as `bands`; where opacity comes to 0 nothing is valid."""

    source: Raster
    bands: tuple[Band, ...]

    @property
    def frame(self) -> Frame:
        return self.source.frame

    def cells(self, pane: Pane) -> Block:
        block = self.source.cells(pane)
        cells = divided(block.cells, shared_type(self.bands))
        seen = cells[-1] > 0
        valid = seen if block.valid is None else block.valid & seen
        return Block(cells, None if valid.all() else valid)


def weighing(source: Raster, method: Method, change: Callable[[Raster], Raster]) -> Raster:
    """`change`, which takes cells together by `method`, of `source`: colours count by their opacity."""
    weighs = method.averages and not method.ranked and method.name != "sum"
    if not (weighs and has_alpha(source.bands)):
        return change(source)
    return Divided(change(Multiplied(source)), source.bands)


@dataclass(frozen=True)
class Flattened:
    """The colours of `source` over a background: opaque everywhere. background: one value a colour."""

    source: Raster
    background: tuple[float, ...]

    @property
    def frame(self) -> Frame:
        return self.source.frame

    @property
    def bands(self) -> tuple[Band, ...]:
        return self.source.bands[:-1]

    def cells(self, pane: Pane) -> Block:
        block = self.source.cells(pane)
        kind = block.cells.dtype
        share = block.cells[-1] / top_of(kind) * block.anywhere
        behind = np.reshape(self.background, (-1, 1, 1))
        made = block.cells[:-1] * share + behind * (1 - share)
        return Block(rounded(made, kind))


@dataclass(frozen=True)
class Opaque:
    """`source` with a band of full opacity, for joining it with others that have one."""

    source: Raster

    @property
    def frame(self) -> Frame:
        return self.source.frame

    @property
    def bands(self) -> tuple[Band, ...]:
        return (*self.source.bands, Band(ALPHA, shared_type(self.source.bands).name, colour=ALPHA))

    def cells(self, pane: Pane) -> Block:
        block = self.source.cells(pane)
        kind = shared_type(self.source.bands)
        alpha = np.where(block.anywhere, kind.type(top_of(kind)), kind.type(0))[None]
        cells = np.concatenate([block.cells, alpha.astype(block.cells.dtype)])
        if block.valid is None or block.valid.ndim == 2:
            return Block(cells, block.valid)
        return Block(cells, np.concatenate([block.valid, block.anywhere[None]]))


@dataclass(frozen=True)
class Settled:
    """`source` with opacity 0 wherever nothing is valid, as files say it."""

    source: Raster

    @property
    def frame(self) -> Frame:
        return self.source.frame

    @property
    def bands(self) -> tuple[Band, ...]:
        return self.source.bands

    def cells(self, pane: Pane) -> Block:
        block = self.source.cells(pane)
        if block.valid is not None:
            block.cells[-1, ~block.anywhere] = 0
        return block
