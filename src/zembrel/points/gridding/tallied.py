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
from zembrel.points import kernels
from zembrel.points.gridding.remembered import Remembered
from zembrel.points.gridding.statistic import COUNT, END, SUM, PointStatistic, as_block, bands_of
from zembrel.points.model import PointBlock, Scaling
from zembrel.raster.model import Band, Block

Bounds = tuple[float, float, float, float]
Points = Callable[[Bounds], Iterator[PointBlock]]  # the points that may lie within bounds, in file order
_HELD = 200_000_000  # bytes of counts and sums that are held at a time


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
    summed = {w.value: np.zeros(shape) for w in wanted if w.kind.gathers == SUM}
    ends = {(w.value, w.kind.sign): np.full(shape, -np.inf) for w in wanted if w.kind.gathers == END}
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
    held: dict[tuple[int, str, float], npt.NDArray[Any]] = {(COUNT, w.value, 1.0): counts for w in wanted}
    held |= {(SUM, name, 1.0): totals for name, totals in summed.items()}
    held |= {(END, name, sign): end for (name, sign), end in ends.items()}
    keys = [(w.kind.gathers, w.value, w.kind.sign) for w in wanted]
    with np.errstate(invalid="ignore", divide="ignore"):
        made = [w.kind.finish(counts, held[key], area) for w, key in zip(wanted, keys, strict=True)]
    return np.stack(made)
