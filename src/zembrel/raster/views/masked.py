"""Blanking by another raster: where it is void, or where it holds true."""

from __future__ import annotations

from dataclasses import dataclass

from zembrel.grid.pane import Pane
from zembrel.raster.model import Mask, Raster


@dataclass(frozen=True)
class Void:
    """Cells that are invalid in `witness`."""

    witness: Raster

    def inside(self, pane: Pane) -> Mask:
        """(rows, columns)."""
        return ~self.witness.cells(pane).anywhere


@dataclass(frozen=True)
class Holds:
    """Cells at which the first band of `truth` is not 0. Where it is void nothing is known."""

    truth: Raster

    def inside(self, pane: Pane) -> Mask:
        """(rows, columns)."""
        block = self.truth.cells(pane)
        held: Mask = block.cells[0] != 0
        return held & block.valid_of(0)
