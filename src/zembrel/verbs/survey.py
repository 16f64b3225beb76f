"""Passing over all cells to learn about them: whether there are any, and their quantiles."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import TypeVar

from zembrel.engine.limits import Limits
from zembrel.engine.run import Observer, observe
from zembrel.grid.pane import Pane
from zembrel.raster.model import Block, Raster, shared_type
from zembrel.raster.passing import blocks_of
from zembrel.raster.ranks import KeyCounts, quantiles_of
from zembrel.raster.survey import Coverage

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
class ValuesCounted:
    """Observer: how many valid cells there are in all bands together."""

    count: int = 0

    def look(self, pane: Pane, block: Block) -> int:
        return int(block.values.size)

    def note(self, seen: int) -> None:
        self.count += seen


def quantiles(views: Sequence[Raster], shares: Sequence[float], limits: Limits) -> list[float]:
    """The quantiles of all valid cells of some rasters, exactly, as NumPy's `linear` has them.

    There must be a cell.
    """
    count = sum(seen(view, ValuesCounted(), limits).count for view in views)

    def show(observer: KeyCounts) -> None:
        for view in views:
            seen(view, observer, limits)

    return quantiles_of(
        show, shared_type(tuple(band for view in views for band in view.bands)), count, shares
    )


def percentiles(view: Raster, wanted: tuple[float, float], limits: Limits) -> tuple[float, float]:
    """Values below which `wanted` per cent of all valid cells lie."""
    low, high = quantiles([view], [share / 100 for share in wanted], limits)
    return low, high
