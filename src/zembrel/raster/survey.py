"""What blocks tell in passing: exact statistics of bands, and how much is valid.

Observers of the engine: `look` is pure and runs in parallel, `note` adds up in block order, so that
sums do not depend on the number of workers.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.grid.pane import Pane
from zembrel.moments import NONE, Moments
from zembrel.raster.model import Block
from zembrel.raster.views.outline import Cover


class BandTally(NamedTuple):
    """Smallest and largest value of one band, and how many there are, their mean and their spread."""

    low: float
    high: float
    moments: Moments

    @property
    def cells(self) -> int:
        return int(self.moments.count)

    @property
    def mean(self) -> float:
        """0 for no cells."""
        return float(self.moments.mean) if self.cells else 0.0


_NOTHING = BandTally(math.inf, -math.inf, NONE)


@dataclass
class Statistics:
    """Exact statistics of every band, combined block by block."""

    tallies: list[BandTally] = field(default_factory=list)
    cells: int = 0

    def look(self, pane: Pane, block: Block) -> list[BandTally]:
        return [_tally(block, band) for band in range(block.cells.shape[0])]

    def note(self, seen: list[BandTally]) -> None:
        if not self.tallies:
            self.tallies = [_NOTHING] * len(seen)
        self.tallies = [_joined(one, other) for one, other in zip(self.tallies, seen, strict=True)]

    def deviation(self, band: int) -> float:
        """Standard deviation of all cells of a band."""
        return float(self.tallies[band].moments.deviation)


def _tally(block: Block, band: int) -> BandTally:
    values = block.cells[band].ravel() if block.valid is None else block.cells[band][block.valid_of(band)]
    if not values.size:
        return _NOTHING
    return BandTally(float(values.min()), float(values.max()), Moments.of(values))


def _joined(one: BandTally, other: BandTally) -> BandTally:
    return BandTally(min(one.low, other.low), max(one.high, other.high), one.moments.plus(other.moments))


@dataclass
class ClassCounts:
    """Observer: cells of each code of one band of whole numbers, and their area.

    size_of: the areas of the cells in each row of a pane, (rows,), if they have any.
    """

    size_of: Callable[[Pane], npt.NDArray[np.float64]] | None = None
    counts: Counter[int] = field(default_factory=Counter)
    areas: dict[int, float] = field(default_factory=dict)

    def look(self, pane: Pane, block: Block) -> dict[int, tuple[int, float]]:
        codes, cells = np.unique(block.values, return_counts=True)
        areas: npt.NDArray[Any] = np.zeros(codes.size)
        if self.size_of is not None:
            sizes = np.broadcast_to(self.size_of(pane)[:, None], pane.shape)[block.valid_of(0)]
            areas = np.bincount(np.searchsorted(codes, block.values), sizes, minlength=codes.size)
        found = zip(codes.tolist(), cells.tolist(), areas.tolist(), strict=True)
        return {code: (count, area) for code, count, area in found}

    def note(self, seen: dict[int, tuple[int, float]]) -> None:
        for code, (cells, area) in seen.items():
            self.counts[code] += cells
            self.areas[code] = self.areas.get(code, 0.0) + area


class BlockSeen(NamedTuple):
    """Cells of a block: valid ones, those due inside the outline, and those missing there."""

    valid: int
    due: int
    missing: int
    first: tuple[int, int] | None  # row and column of the first missing cell


@dataclass
class Coverage:
    """How many cells are valid; with a cover, how many are missing inside it."""

    cover: Cover | None = None
    cells: int = 0
    valid: int = 0
    due: int = 0
    missing: int = 0
    first: tuple[int, int] | None = None

    def look(self, pane: Pane, block: Block) -> BlockSeen:
        if block.valid is None:
            return BlockSeen(pane.size, pane.size, 0, None)
        valid = block.anywhere
        if self.cover is None:
            return BlockSeen(int(valid.sum()), 0, 0, None)
        inside = self.cover.inside(pane)
        holes = np.argwhere(inside & ~valid)
        first = (int(holes[0][0]) + pane.top, int(holes[0][1]) + pane.left) if len(holes) else None
        return BlockSeen(int(valid.sum()), int(inside.sum()), len(holes), first)

    def note(self, seen: BlockSeen) -> None:
        self.valid += seen.valid
        self.due += seen.due
        self.missing += seen.missing
        self.first = self.first or seen.first
