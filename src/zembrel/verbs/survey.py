"""Passing over all cells to learn about them: block lists, percentiles."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import TypeVar

import numpy as np
import numpy.typing as npt

from zembrel.engine.limits import Limits
from zembrel.engine.run import Observer, observe
from zembrel.grid.pane import Pane
from zembrel.raster.model import Block, Raster
from zembrel.raster.passing import blocks_of
from zembrel.raster.survey import Coverage

_BINS = 65_536


Watcher = TypeVar("Watcher", bound=Observer)


def seen(view: Raster, watcher: Watcher, limits: Limits) -> Watcher:
    """`watcher` after it has seen all of `view`."""
    observe(view, blocks_of(view), [watcher], limits)
    return watcher


def is_empty(view: Raster, limits: Limits) -> bool:
    """Whether no cell is valid; looked at block by block, up to the first that is."""
    for pane in blocks_of(view):
        coverage = Coverage()
        observe(view, [pane], [coverage], replace(limits, workers=1))
        if coverage.valid:
            return False
    return True


@dataclass
class Distribution:
    """Observer: counts of all bands together in equal bins between `low` and `high`."""

    low: float
    high: float
    counts: npt.NDArray[np.int64] = field(default_factory=lambda: np.zeros(_BINS, np.int64))

    def look(self, pane: Pane, block: Block) -> npt.NDArray[np.int64]:
        return np.histogram(block.values, _BINS, (self.low, self.high))[0]

    def note(self, seen: npt.NDArray[np.int64]) -> None:
        self.counts += seen

    @property
    def below(self) -> npt.NDArray[np.float64]:
        """The share of all values up to the end of each bin."""
        return np.asarray(np.cumsum(self.counts) / max(self.counts.sum(), 1))

    @property
    def edges(self) -> npt.NDArray[np.float64]:
        """The ends of the bins, one more than these."""
        return np.linspace(self.low, self.high, _BINS + 1)

    def quantiles(self, shares: Sequence[float]) -> list[float]:
        """Values below which `shares` lie, to 1/65,536 of the range."""
        below, edges = self.below, self.edges
        return [float(edges[min(int(np.searchsorted(below, share)) + 1, _BINS)]) for share in shares]


def quantiles(
    view: Raster, ends: tuple[float, float], shares: Sequence[float], limits: Limits
) -> list[float]:
    """Values below which `shares` of all valid cells lie, to 1/65,536 of their range."""
    return seen(view, Distribution(*ends), limits).quantiles(shares)


def percentiles(
    view: Raster, ends: tuple[float, float], wanted: tuple[float, float], limits: Limits
) -> tuple[float, float]:
    """Values below which `wanted` per cent of all valid cells lie, to 1/65,536 of their range."""
    held = seen(view, Distribution(*ends), limits)
    share, edges = held.below, held.edges
    low = edges[int(np.searchsorted(share, wanted[0] / 100, side="right"))]
    high = edges[min(int(np.searchsorted(share, wanted[1] / 100)) + 1, _BINS)]
    return float(low), float(high)
