"""Blanking by another raster or by a condition on values."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from zembrel.expression.formula import Condition
from zembrel.grid.pane import Pane
from zembrel.raster.model import Mask, Raster

VALUE = "value"  # the first band, by a name that always holds


def band_names(raster: Raster) -> tuple[str, ...]:
    """Names that a condition on `raster` may use."""
    return tuple(dict.fromkeys([VALUE, *(b.name for b in raster.bands)]))


@dataclass(frozen=True)
class Conditioned:
    """Cells of `witness` at which a condition on its bands holds, or (without one) that are invalid."""

    witness: Raster
    condition: Condition | None = None

    def inside(self, pane: Pane) -> Mask:
        """(rows, columns). Of cells that are invalid nothing is known: no condition holds there."""
        block = self.witness.cells(pane)
        if self.condition is None:
            return ~block.anywhere
        values: dict[str, Any] = {VALUE: block.cells[0]}
        for band, cells in zip(self.witness.bands, block.cells, strict=True):
            values.setdefault(band.name, cells)
        wide = {
            name: cells.astype(np.int64 if cells.dtype.kind in "iu" and cells.itemsize < 8 else np.float64)
            for name, cells in values.items()
        }
        holds = np.broadcast_to(np.asarray(self.condition(wide), bool), pane.shape)
        return holds & block.anywhere
