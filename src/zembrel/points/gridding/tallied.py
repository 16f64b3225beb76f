"""Statistics that need no more of a cell than sums and ends: one pass over the points, strip by strip."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from threading import Lock
from typing import Any

import numpy as np
import numpy.typing as npt

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.moments import Moments
from zembrel.points import kernels
from zembrel.points.gridding.remembered import Remembered
from zembrel.points.gridding.statistic import PointStatistic, as_block, bands_of
from zembrel.points.model import PointBlock, Scaling
from zembrel.raster.model import Band, Block
from zembrel.statistics import Gathered

Bounds = tuple[float, float, float, float]
Points = Callable[[Bounds], Iterator[PointBlock]]  # the points that may lie within bounds, in file order
_HELD = 200_000_000  # bytes of counts and sums that are held at a time
_SIGNS = {"low": -1.0, "high": 1.0}  # ends are the largest of the values times a sign


class Turn:
    """A lock; a copy has one of its own."""

    def __init__(self) -> None:
        self.lock = Lock()

    def __reduce__(self) -> Any:
        return Turn, ()


@dataclass(frozen=True, eq=False)
class Tallied:
    """Statistics of points in the cells of a frame that is north up. Strips are made when first asked for."""

    frame: Frame
    wanted: tuple[PointStatistic, ...]
    points: Points
    area: float  # square metres of a cell, for densities
    held: int = _HELD
    _strips: Remembered = field(default_factory=lambda: Remembered(0))
    _turn: Turn = field(default_factory=lambda: Turn())

    @property
    def bands(self) -> tuple[Band, ...]:
        return bands_of(self.wanted)

    @property
    def strip(self) -> int:
        """Rows that are tallied together."""
        a_row = self.frame.columns * 8 * (2 + 2 * len(self.wanted))
        return max(1, min(self.frame.rows, self.held // a_row))

    def cells(self, pane: Pane) -> Block:
        """The statistics of a pane; cells without a point are invalid, but for counts and densities."""
        made = np.zeros((len(self.wanted), pane.rows, pane.columns))
        for number in range(pane.top // self.strip, (pane.bottom - 1) // self.strip + 1):
            strip, first = self._made(number), number * self.strip
            top, bottom = max(pane.top, first), min(pane.bottom, first + strip.shape[1])
            part = strip[:, top - first : bottom - first, pane.left : pane.right]
            made[:, top - pane.top : bottom - pane.top] = part
        return as_block(made, self.bands)

    def _made(self, number: int) -> npt.NDArray[np.float64]:
        first = number * self.strip
        rows = min(self.strip, self.frame.rows - first)
        part = self.frame.crop(Pane(first, 0, first + rows, self.frame.columns))
        with self._turn.lock:  # a strip is tallied once, by all workers
            return self._strips.get(
                number, lambda: tally(self.points(part.bounds), part, self.wanted, self.area)
            )


def placing_of(frame: Frame, scaling: Scaling) -> tuple[float, float, float, float]:
    """What takes stored x and y to a frame that is north up: column = X a + b, row = Y c + d."""
    affine, scale, offset = frame.corners, scaling.scale, scaling.offset
    return (
        scale[0] / affine.x_col,
        (offset[0] - affine.x0) / affine.x_col,
        scale[1] / affine.y_row,
        (offset[1] - affine.y0) / affine.y_row,
    )


def _values(block: PointBlock, name: str) -> tuple[npt.NDArray[Any], tuple[float, float]]:
    """Values as they are stored, and what takes them to what they mean."""
    if name == "z":
        return block.records["Z"], (block.scaling.scale[2], block.scaling.offset[2])
    return np.asarray(block.values(name), np.float64), (1.0, 0.0)


def tally(
    blocks: Iterator[PointBlock], frame: Frame, wanted: Sequence[PointStatistic], area: float
) -> npt.NDArray[np.float64]:
    """Statistics (wanted, rows, columns) of points in the cells of a frame; NaN where there is none."""
    shape = (frame.rows, frame.columns)
    counts = np.zeros(shape, np.int64)
    summed = {w.value: np.zeros(shape) for w in wanted if "total" in w.record.needs}
    ends = {
        (w.value, sign): np.full(shape, -np.inf)
        for w in wanted
        for need, sign in _SIGNS.items()
        if need in w.record.needs
    }
    for block in blocks:
        x, y, placing = block.records["X"], block.records["Y"], placing_of(frame, block.scaling)
        for number, (name, totals) in enumerate(summed.items()):
            values, meaning = _values(block, name)
            if number == 0:
                kernels.binning.add_values(x, y, values, placing, meaning, counts, totals)
            else:
                kernels.binning.add_sums(x, y, values, placing, meaning, totals)
        if not summed:
            kernels.binning.add_counts(x, y, placing, counts)
        for (name, sign), end in ends.items():
            values, meaning = _values(block, name)
            kernels.binning.add_ends(x, y, values, placing, meaning, end, sign)
    made = []
    for w in wanted:
        low, high = ends.get((w.value, _SIGNS["low"])), ends.get((w.value, _SIGNS["high"]))
        moments = Moments(counts, summed.get(w.value), None)
        made.append(w.made(Gathered(moments, None if low is None else -low, high), area))
    return np.stack(made)
