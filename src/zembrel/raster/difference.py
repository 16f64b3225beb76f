"""How far two rasters on the same cells differ, learned in passing."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block, Raster


@dataclass(frozen=True)
class Subtracted:
    """`one` less `other`, on one frame and with as many bands, as float64; valid where both are."""

    one: Raster
    other: Raster

    @property
    def frame(self) -> Frame:
        return self.one.frame

    @property
    def bands(self) -> tuple[Band, ...]:
        return tuple(Band(band.name, "float64", unit=band.unit) for band in self.one.bands)

    def cells(self, pane: Pane) -> Block:
        first, second = self.one.cells(pane), self.other.cells(pane)
        apart = first.cells.astype(np.float64) - second.cells.astype(np.float64)
        if first.valid is None and second.valid is None:
            return Block(apart)
        both = np.stack([first.valid_of(n) & second.valid_of(n) for n in range(len(apart))])
        return Block(np.where(both, apart, 0.0), both)


@dataclass
class Differences:
    """An observer of the bands of one raster and then those of another: counts, sums and ends over all.

    tolerance: how far apart cells may be to count as within it.
    """

    tolerance: float = 0.0
    cells: int = 0
    equal: int = 0
    within: int = 0
    one_alone: int = 0
    other_alone: int = 0
    total: float = 0.0
    squares: float = 0.0
    low: float = float("inf")
    high: float = float("-inf")

    def look(self, pane: Pane, block: Block) -> tuple[float, ...]:
        bands = len(block.cells) // 2
        masks = [(block.valid_of(n), block.valid_of(n + bands)) for n in range(bands)]
        alone = sum(int((a & ~b).sum()) for a, b in masks), sum(int((b & ~a).sum()) for a, b in masks)
        apart = block.cells[:bands].astype(np.float64) - block.cells[bands:].astype(np.float64)
        values = apart[np.stack([a & b for a, b in masks])]
        if not values.size:
            return 0, 0, 0, *alone, 0.0, 0.0, float("inf"), float("-inf")
        counts = values.size, int((values == 0).sum()), int((np.abs(values) <= self.tolerance).sum())
        return *counts, *alone, values.sum(), (values * values).sum(), values.min(), values.max()

    def note(self, seen: tuple[float, ...]) -> None:
        self.cells += int(seen[0])
        self.equal += int(seen[1])
        self.within += int(seen[2])
        self.one_alone += int(seen[3])
        self.other_alone += int(seen[4])
        self.total += seen[5]
        self.squares += seen[6]
        self.low, self.high = min(self.low, seen[7]), max(self.high, seen[8])

    def figures(self) -> dict[str, float]:
        """By name: share, mean, rms, max, cells, equal and alone (cells that only one of the two has)."""
        count = max(self.cells, 1)
        return {
            "share": self.within / count if self.cells else 0.0,
            "mean": self.total / count,
            "rms": (self.squares / count) ** 0.5,
            "max": max(abs(self.low), abs(self.high)) if self.cells else 0.0,
            "cells": self.cells,
            "equal": self.equal,
            "alone": self.one_alone + self.other_alone,
        }
