"""Statistics that need no more of a cell than sums and ends: one pass over the points, strip by strip."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from threading import Lock

import numpy as np
import numpy.typing as npt

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.points.gridding.wanted import Wanted, as_block, bands_of
from zembrel.points.kernels.binning import add_counts, add_ends, add_sums, add_values
from zembrel.points.model import PointBlock
from zembrel.raster.model import Band, Block

Bounds = tuple[float, float, float, float]
Points = Callable[[Bounds], Iterator[PointBlock]]  # the points that may lie within bounds, in file order
_HELD = 200_000_000  # bytes of counts and sums that are held at a time


@dataclass(frozen=True, eq=False)
class Tallied:
    """Statistics of points in the cells of a frame that is north up. Strips are made when first asked for."""

    frame: Frame
    wanted: tuple[Wanted, ...]
    points: Points
    area: float  # square metres of a cell, for densities
    held: int = _HELD
    _strips: dict[int, npt.NDArray[np.float64]] = field(default_factory=dict)
    _lock: Lock = field(default_factory=Lock)

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
        with self._lock:
            if number not in self._strips:
                for old in sorted(self._strips)[:-1]:
                    del self._strips[old]
                first = number * self.strip
                rows = min(self.strip, self.frame.rows - first)
                part = self.frame.crop(Pane(first, 0, first + rows, self.frame.columns))
                self._strips[number] = tally(self.points(part.bounds), part, self.wanted, self.area)
            return self._strips[number]


def lattice_of(frame: Frame) -> tuple[float, float, float, float]:
    """The corner of a frame that is north up, and cells per unit along x and y."""
    affine = frame.corners
    return affine.x0, affine.y0, 1 / affine.x_col, -1 / affine.y_row


def tally(
    blocks: Iterator[PointBlock], frame: Frame, wanted: Sequence[Wanted], area: float
) -> npt.NDArray[np.float64]:
    """Statistics (wanted, rows, columns) of points in the cells of a frame; NaN where there is none."""
    shape, lattice = (frame.rows, frame.columns), lattice_of(frame)
    counts = np.zeros(shape, np.int64)
    summed = {w.value: np.zeros(shape) for w in wanted if w.stat in ("mean", "sum")}
    ends = {(w.value, w.stat): np.full(shape, -np.inf) for w in wanted if w.stat in ("min", "max")}
    for block in blocks:
        x, y = block.x, block.y
        for number, (value, totals) in enumerate(summed.items()):
            if number == 0:
                add_values(x, y, _floats(block, value), lattice, counts, totals)
            else:
                add_sums(x, y, _floats(block, value), lattice, totals)
        if not summed:
            add_counts(x, y, lattice, counts)
        for (value, stat), end in ends.items():
            add_ends(x, y, _floats(block, value), lattice, end, 1.0 if stat == "max" else -1.0)
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.stack(
            [_finished(w, counts, summed, ends) / (area if w.stat == "density" else 1) for w in wanted]
        )


def _finished(
    wanted: Wanted,
    counts: npt.NDArray[np.int64],
    summed: dict[str, npt.NDArray[np.float64]],
    ends: dict[tuple[str, str], npt.NDArray[np.float64]],
) -> npt.NDArray[np.float64]:
    if wanted.stat in ("count", "density"):
        return counts.astype(np.float64)
    if wanted.stat == "mean":
        return summed[wanted.value] / counts
    held = summed[wanted.value] if wanted.stat == "sum" else ends[wanted.value, wanted.stat]
    return np.where(counts > 0, -held if wanted.stat == "min" else held, np.nan)


def _floats(block: PointBlock, value: str) -> npt.NDArray[np.float64]:
    return np.asarray(block.values(value), np.float64)
