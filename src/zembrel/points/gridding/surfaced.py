"""Rasters of spooled points: ranks of cells, surfaces, and the products of a survey."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.moments import Moments
from zembrel.points.gridding.remembered import Remembered
from zembrel.points.gridding.spool import Spool, Spooled
from zembrel.points.gridding.statistic import PointStatistic, as_block, ranks
from zembrel.points.gridding.surface import triangulated, weighted, without_spikes
from zembrel.raster.model import Band, Block
from zembrel.statistics import Gathered

Values = npt.NDArray[np.float64]
Make = Callable[[Spooled, Pane], Values]  # (bands, rows, columns) of the points of a pane and its margin
_KEPT = 64 * 65_536 * 8  # bytes of blocks that are kept for panes that share them


@dataclass(frozen=True, eq=False)
class Surfaced:
    """What `make` makes of the points of each block of a spool and `margin` cells around it."""

    spool: Spool
    bands: tuple[Band, ...]
    make: Make
    margin: float
    spikes: tuple[float, float] | None = None  # size of a neighbourhood in cells, and height
    _made: Remembered = field(default_factory=lambda: Remembered(_KEPT))

    @property
    def frame(self) -> Frame:
        return self.spool.frame

    def cells(self, pane: Pane) -> Block:
        made = np.full((len(self.bands), pane.rows, pane.columns), np.nan)
        for part in self.spool.blocks_of(pane):
            top, left = part.top - pane.top, part.left - pane.left
            made[:, top : top + part.rows, left : left + part.columns] = self._part(part)
        return as_block(made, self.bands)

    def _part(self, part: Pane) -> Values:
        """A part of a block; whole blocks are remembered for the panes that share them."""
        side = self.spool.side
        row, column = part.top // side * side, part.left // side * side
        whole = Pane(row, column, row + side, column + side).meet(self.frame.pane)
        assert whole is not None
        found = self._made.get(whole, lambda: self.make(self._points(whole), whole))
        rows, columns = part.within(whole)
        return found[:, rows, columns]

    def _points(self, pane: Pane) -> Spooled:
        if self.spikes is None:
            return self.spool.points(pane, self.margin)
        size, height = self.spikes
        wide = self.spool.points(pane, self.margin + 3 * size + 1)
        kept = wide[without_spikes(wide, size, height)]
        near = np.abs(kept["column"] - (pane.left + pane.right) / 2) < pane.columns / 2 + self.margin
        near &= np.abs(kept["row"] - (pane.top + pane.bottom) / 2) < pane.rows / 2 + self.margin
        return kept[near]


@dataclass(frozen=True)
class Ranked:
    """Statistics of the points in each cell of `area` square metres, ranks among them."""

    wanted: tuple[PointStatistic, ...]
    area: float

    def __call__(self, points: Spooled, pane: Pane) -> Values:
        made = np.full((len(self.wanted), pane.rows * pane.columns), np.nan)
        column = np.floor(points["column"]).astype(np.int64) - pane.left
        row = np.floor(points["row"]).astype(np.int64) - pane.top
        inside = (column >= 0) & (column < pane.columns) & (row >= 0) & (row < pane.rows)
        points, keys = points[inside], (row * pane.columns + column)[inside]
        for number, one in enumerate(self.wanted):
            if one.counts:
                counts = np.bincount(keys, minlength=made.shape[1])
                made[number] = one.made(Gathered(Moments(counts, None, None)), self.area)
                continue
            values = points[one.value]
            order = np.lexsort((values, keys))
            found, starts, counts = np.unique(keys[order], return_index=True, return_counts=True)
            made[number, found] = _stat(one, values[order], starts, counts)
        return made.reshape(len(self.wanted), pane.rows, pane.columns)


def _stat(
    wanted: PointStatistic, values: Values, starts: npt.NDArray[np.int64], counts: npt.NDArray[np.int64]
) -> Values:
    """A statistic of groups of ascending values."""
    if not len(starts):
        return np.zeros(0)
    if wanted.ranked:
        rank = wanted.record.rank
        return ranks(values, starts, counts, wanted.share if rank is None else rank)
    moments = Moments(counts, np.add.reduceat(values, starts), None)
    return wanted.made(Gathered(moments, values[starts], values[starts + counts - 1]), 1.0)


@dataclass(frozen=True)
class Triangles:
    """The surface of triangles between points, as far as `reach` cells."""

    reach: float

    def __call__(self, points: Spooled, pane: Pane) -> Values:
        return triangulated(points, points["z"], pane, self.reach)[np.newaxis]


@dataclass(frozen=True)
class InverseDistance:
    """Means weighted by the inverse of the distance, within `reach` cells."""

    reach: float

    def __call__(self, points: Spooled, pane: Pane) -> Values:
        return weighted(points, points["z"], pane, self.reach)[np.newaxis]


TERRAIN, SURFACE, CANOPY = "terrain", "surface", "canopy"
PRODUCTS = (TERRAIN, SURFACE, CANOPY)


@dataclass(frozen=True)
class Products:
    """Terrain: triangles between ground points. Surface: the highest first return of each cell, and between
    those triangles of all. Canopy: how far the surface stands above the terrain, never below it.

    Points have the values z, ground and first (1 or 0).
    """

    names: tuple[str, ...]
    reach: float

    def __call__(self, points: Spooled, pane: Pane) -> Values:
        ground, first = points[points["ground"] > 0], points[points["first"] > 0]
        terrain = triangulated(ground, ground["z"], pane, self.reach)
        made = {TERRAIN: terrain}
        if SURFACE in self.names or CANOPY in self.names:
            top = Ranked((PointStatistic("max"),), 1.0)(first, pane)[0]
            between = triangulated(first, first["z"], pane, self.reach, highest=True)
            made[SURFACE] = np.where(np.isnan(top), between, top)
            made[CANOPY] = np.maximum(made[SURFACE] - terrain, 0)
        return np.stack([made[name] for name in self.names])
