"""The heights that numbers of 16 bits stand for, and how they are found in a file."""

from __future__ import annotations

import math
from dataclasses import dataclass
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from zembrel.engine.limits import Limits
from zembrel.engine.run import over_panes
from zembrel.errors import RefusedError
from zembrel.facts import Fact, fact
from zembrel.grid.pane import Pane
from zembrel.passes.stretch import ends_of
from zembrel.passes.survey import seen
from zembrel.raster.model import Raster
from zembrel.raster.passing import blocks_of
from zembrel.raster.survey import Statistics

_TOP, _FINEST = 65_535, 1e-9  # the highest number, and metres of a step at least


class HeightRange(NamedTuple):
    """Heights of numbers 0 and 65535, that of voids, and how many of these there are."""

    low: float
    high: float
    void: float
    voids: int

    @property
    def step(self) -> float:
        return (self.high - self.low) / _TOP

    def number(self, height: float) -> int:
        """The number nearest to a height."""
        return int(np.clip(round((height - self.low) / self.step), 0, _TOP))


def range_of(view: Raster, span: str | None, rule: str, sea: float, limits: Limits) -> HeightRange:
    """The heights that 0 and 65535 stand for: those of `span`, else of all there is with its voids.

    rule: what voids become, `sea`, `lowest` or a height. Raises RefusedError where there are no heights, or
    all are equal.
    """
    tally = seen(view, Statistics(), limits).tallies[0]
    voids = view.frame.size - tally.cells
    if not tally.cells:
        raise RefusedError("no height lies in the area", "all of it is void", "check --within")
    void = {"sea": sea, "lowest": tally.low}.get(rule)
    void = float(rule) if void is None else void
    if span is not None:
        low, high = ends_of(view, span, limits)
    else:
        low, high = (min(tally.low, void), max(tally.high, void)) if voids else (tally.low, tally.high)
    if not (math.isfinite(low) and math.isfinite(high)):
        raise RefusedError("some heights are infinite", "a range has two ends", "add --range 0,800")
    if not high - low > _TOP * _FINEST:
        raise RefusedError("all heights are equal", "there is no range for 65,536 steps", "add --range 0,800")
    return HeightRange(low, high, void, voids)


@dataclass(frozen=True)
class StoredHeights:
    """A raw file of numbers; upward: whether its first row is the bottom."""

    path: Path
    big_endian: bool
    upward: bool
    heights: HeightRange

    def numbers(self, shape: tuple[int, int]) -> Any:
        """The numbers as an engine reads them, the top row first."""
        stored = np.memmap(self.path, ">u2" if self.big_endian else "<u2", "r", shape=shape)
        return stored[:: -1 if self.upward else 1]


@dataclass(frozen=True, eq=False)
class _ReadBack:
    """How far heights in a file are off those of `view`, and how many lie beyond its ends."""

    view: Raster
    stored: StoredHeights

    def __call__(self, pane: Pane) -> tuple[float, int]:
        numbers = self.stored.numbers(self.view.frame.pane.shape)[pane.within(self.view.frame.pane)]
        block, heights = self.view.cells(pane), self.stored.heights
        held = heights.low + numbers.astype(float) * heights.step
        off = np.where(block.valid_of(0), np.abs(held - block.cells[0]), 0.0)
        beyond = off > heights.step
        return float(off[~beyond].max(initial=0.0)), int(beyond.sum())


def read_back(view: Raster, stored: StoredHeights, limits: Limits) -> tuple[Fact, ...]:
    """What reading a terrain back shows."""
    looks = list(over_panes(view, blocks_of(view), _ReadBack(view, stored), limits))
    beyond = sum(count for _, count in looks)
    most, step = max(most for most, _ in looks), stored.heights.step
    said = [fact("terrain_read_back", most=most, step=step)]
    return tuple([*said, fact("heights_held_at_ends", cells=beyond)] if beyond else said)
