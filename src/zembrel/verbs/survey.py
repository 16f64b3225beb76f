"""Passing over all cells to learn about them: block lists, percentiles."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TypeVar

import numpy as np
import numpy.typing as npt

from zembrel.engine.limits import Limits
from zembrel.engine.run import Observer, observe
from zembrel.grid.pane import Pane
from zembrel.raster.model import Block, Raster

_BINS = 65_536


def blocks_of(view: Raster, side: int = 1024) -> list[Pane]:
    """Panes that cover `view`, whole segments where the source has them."""
    rows, columns = getattr(view, "block_shape", (side, side))
    fitting = max(1, side * side // (rows * columns))
    if columns >= view.frame.columns:
        return list(view.frame.pane.blocks(rows * fitting, view.frame.columns))
    return list(
        view.frame.pane.blocks(max(rows, side // rows * rows), max(columns, side // columns * columns))
    )


Watcher = TypeVar("Watcher", bound=Observer)


def seen(view: Raster, watcher: Watcher, limits: Limits) -> Watcher:
    """`watcher` after it has seen all of `view`."""
    observe(view, blocks_of(view), [watcher], limits)
    return watcher


@dataclass
class Histogram:
    """Observer: counts of all bands together in equal bins between `low` and `high`."""

    low: float
    high: float
    counts: npt.NDArray[np.int64] = field(default_factory=lambda: np.zeros(_BINS, np.int64))

    def look(self, pane: Pane, block: Block) -> npt.NDArray[np.int64]:
        return np.histogram(block.values, _BINS, (self.low, self.high))[0]

    def note(self, seen: npt.NDArray[np.int64]) -> None:
        self.counts += seen


def _shares_below(
    view: Raster, ends: tuple[float, float], limits: Limits
) -> tuple[npt.NDArray[np.float64], npt.NDArray[np.float64]]:
    """The share of all valid cells up to the end of each bin, and the ends of the bins."""
    counts = seen(view, Histogram(*ends), limits).counts
    return np.cumsum(counts) / max(counts.sum(), 1), np.linspace(*ends, _BINS + 1)


def quantiles(
    view: Raster, ends: tuple[float, float], shares: Sequence[float], limits: Limits
) -> list[float]:
    """Values below which `shares` of all valid cells lie, to 1/65,536 of their range."""
    below, edges = _shares_below(view, ends, limits)
    return [float(edges[min(int(np.searchsorted(below, share)) + 1, _BINS)]) for share in shares]


def percentiles(
    view: Raster, ends: tuple[float, float], wanted: tuple[float, float], limits: Limits
) -> tuple[float, float]:
    """Values below which `wanted` per cent of all valid cells lie, to 1/65,536 of their range."""
    share, edges = _shares_below(view, ends, limits)
    low = edges[int(np.searchsorted(share, wanted[0] / 100, side="right"))]
    high = edges[min(int(np.searchsorted(share, wanted[1] / 100)) + 1, _BINS)]
    return float(low), float(high)
