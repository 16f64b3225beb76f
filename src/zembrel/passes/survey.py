"""Passing over all cells to learn about them: whether there are any, and their quantiles."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import TypeVar

from zembrel.engine.limits import Limits
from zembrel.engine.run import Observer, observe
from zembrel.errors import EmptyInputError, RefusedError
from zembrel.grid.pane import Pane
from zembrel.raster.model import Block, Raster, shared_type
from zembrel.raster.passing import blocks_of
from zembrel.raster.ranks import KeyCounts, quantiles_of
from zembrel.raster.survey import Coverage, Statistics

NO_INFINITE = 'leave them out: derive --let a=INPUT --formula "where(abs(a) < 1e300, a, a - a)"'

Watcher = TypeVar("Watcher", bound=Observer)


def seen(view: Raster, watcher: Watcher, limits: Limits) -> Watcher:
    """`watcher` after it has seen all of `view`."""
    observe(view, blocks_of(view), [watcher], limits)
    return watcher


def finite_ends(view: Raster, limits: Limits, needed: str, remedy: str = NO_INFINITE) -> tuple[float, float]:
    """The smallest and the largest valid value of all bands.

    needed: what makes them needed, as errors say it. Raises EmptyInputError where there is no valid cell,
    RefusedError where values are infinite.
    """
    tallies = [tally for tally in seen(view, Statistics(), limits).tallies if tally.cells]
    if not tallies:
        raise EmptyInputError("there is no valid cell", needed, "check the area and the nodata of the inputs")
    low, high = min(tally.low for tally in tallies), max(tally.high for tally in tallies)
    if not (math.isfinite(low) and math.isfinite(high)):
        raise RefusedError("some values are infinite", needed, remedy)
    return low, high


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
