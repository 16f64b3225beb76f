"""A picture on a frame, by a function from the ground to the picture."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from zembrel.grid.frame import Array, Frame
from zembrel.grid.pinning import Pinning
from zembrel.raster.coordinates import CoordinateMap
from zembrel.raster.method import parse_method
from zembrel.raster.model import Raster
from zembrel.raster.views.opacity import weighing
from zembrel.raster.views.reproject import Reproject


@dataclass(frozen=True)
class PinnedMap(CoordinateMap):
    """Positions by `pinning` instead of a coordinate operation."""

    pinning: Pinning | None = None

    @cached_property
    def parallel(self) -> bool:
        return False

    def exact(self, cols: Array, rows: Array) -> tuple[Array, Array]:
        assert self.pinning is not None
        x, y = self.target.centres(cols, rows)
        column, row = self.pinning(np.asarray(x), np.asarray(y))
        return column, row


@dataclass(frozen=True)
class Pinned(Reproject):
    """`source`, whose own place does not count, on `frame`."""

    pinning: Pinning | None = None

    @cached_property
    def coordinates(self) -> CoordinateMap:
        unplaced = Frame(self.frame.crs, self.source.frame.affine, *self._size)
        return PinnedMap(self.frame, unplaced, self.pinning)

    @property
    def _size(self) -> tuple[int, int]:
        return self.source.frame.columns, self.source.frame.rows


def pin(source: Raster, frame: Frame, pinning: Pinning, method: str) -> Raster:
    """`source` on `frame`. Raises UsageError for an unknown method."""
    chosen = parse_method(method)
    return weighing(source, chosen, lambda weighed: Pinned(weighed, frame, chosen, pinning))
