"""Conversion of cells to the few types that resampling kernels are compiled for, and back."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from zembrel.raster.kernels.arguments import Finish
from zembrel.raster.method import Method
from zembrel.raster.whole import is_wide, rounded

Cells = npt.NDArray[Any]
_IN_SINGLE = 2  # bytes of integers that single floats hold
_COLOURS = 3  # bands that have kernels of their own


@dataclass(frozen=True)
class WorkType:
    """The types in which a method computes cells of one type.

    kind: the type of the source's cells; bands: how many there are.
    """

    kind: np.dtype[Any]
    method: Method
    bands: int

    @property
    def cells(self) -> np.dtype[Any]:
        """Return the type that kernels get. It holds each value, except for means of 64-bit integers."""
        if self._copied:
            return np.dtype(f"u{self.kind.itemsize}")
        if self.kind.kind == "f" or self.kind == np.uint8 or (is_wide(self.kind) and not self._averaged):
            return self.kind
        if self.kind == np.uint16 and self.bands == _COLOURS:
            return self.kind
        return np.dtype(np.float32 if self.kind.itemsize <= _IN_SINGLE else np.float64)

    @property
    def result(self) -> np.dtype[Any]:
        """Return the type that kernels fill: sums are doubles."""
        return np.dtype(np.float64) if self.method.name == "sum" else self.cells

    @property
    def _copied(self) -> bool:
        return self.method.name == "nearest"

    @property
    def _averaged(self) -> bool:
        """Return True for means of 64-bit integers: computed as doubles, and rounded afterwards."""
        return is_wide(self.kind) and self.method.weighted

    def taken(self, cells: Cells) -> Cells:
        """Return cells of the source as kernels get them."""
        cells = cells.astype(self.kind, copy=False)
        return cells.view(self.cells) if self._copied else cells.astype(self.cells, copy=False)

    def given(self, made: Cells) -> Cells:
        """Return what a kernel made in the type of the source; sums as they are."""
        if self.method.name == "sum":
            return made
        if self._copied:
            return made.view(self.kind)
        return rounded(made, self.kind) if is_wide(self.kind) else made.astype(self.kind, copy=False)

    def finish(self, need: float) -> Finish:
        """Return how kernels finish a value. need: the share of weight that must be valid."""
        if self.kind.kind == "f" or self.method.name == "sum" or self._averaged:
            return Finish(need, False, 0.0, 0.0)
        limits = np.iinfo(self.kind)
        return Finish(need, True, float(limits.min), float(limits.max))
