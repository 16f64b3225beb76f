"""Whether values fit another cell type: counted before anything is lost."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from zembrel.grid.pane import Pane
from zembrel.raster.model import Block
from zembrel.raster.whole import largest_double


@dataclass
class TypeFit:
    """Observer: valid cells that type `type` cannot hold after value * gain + lift."""

    type: str
    gain: float = 1.0
    lift: float = 0.0
    outside: int = 0  # beyond the range of the type
    fractions: int = 0  # between two numbers that the type holds
    low: float = math.inf
    high: float = -math.inf

    def look(self, pane: Pane, block: Block) -> tuple[int, int, float, float]:
        values = block.values
        if not values.size:
            return 0, 0, math.inf, -math.inf
        exact = values.astype(np.float64) * self.gain + self.lift
        low, high = float(exact.min()), float(exact.max())
        target = np.dtype(self.type)
        plain = values.dtype.kind in "iu" and self.gain == 1.0 and self.lift == 0.0
        if target.kind == "f" and plain:
            return 0, int((values.astype(target).astype(values.dtype) != values).sum()), low, high
        if target.kind == "f":
            limits = float(np.finfo(target).max)
            lost = np.isfinite(exact) & (np.abs(exact) > limits)
            rounded = np.abs(exact.astype(target, copy=False).astype(np.float64) - exact) > 1e-6 * np.abs(
                exact
            )
            return int(lost.sum()), int((rounded & ~lost).sum()), low, high
        whole = np.iinfo(target)
        held, top = (values, whole.max) if plain else (exact, largest_double(target))
        outside = (held < whole.min) | (held > top)
        return int(outside.sum()), int((exact != np.floor(exact)).sum()), low, high

    def note(self, seen: tuple[int, int, float, float]) -> None:
        self.outside += seen[0]
        self.fractions += seen[1]
        self.low, self.high = min(self.low, seen[2]), max(self.high, seen[3])
