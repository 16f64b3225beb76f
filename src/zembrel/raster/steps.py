"""What all cells tell of faults: steps along lines, values that stand apart, and voids."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.grid.pane import Pane
from zembrel.moments import NONE, Moments
from zembrel.raster.model import Raster

Array = npt.NDArray[np.float64]
SIDE = 256  # cells of a line that a step is averaged over
_NEAR = 12  # lines to each side that a step is held against
_STANDS_OUT = 9.0  # times their usual size
_LEAST = 0.004  # of the spread of values, below which no step is seen
_APART = 2.0  # times the range of all others that one value lies away from them


class End(NamedTuple):
    """The farthest value, how often it is there and where first (row, column), and the next value."""

    value: float
    cells: int
    place: tuple[int, int]
    following: float


_NO_LOW, _NO_HIGH = (End(sign * math.inf, 0, (0, 0), sign * math.inf) for sign in (1, -1))


class CellsSeen(NamedTuple):
    """What a pane tells."""

    pane: Pane
    across: Array  # middle steps onto each column, over all rows of the pane
    down: Array
    low: End
    high: End
    moments: Moments


class Seam(NamedTuple):
    """A line along which values step: upright or level, its column or row, from where to where, how far."""

    upright: bool
    line: int
    start: int
    stop: int
    step: float

    def continues(self, upright: bool, line: int, start: int) -> bool:
        """Whether a step that begins there goes on where this one ends."""
        return (self.upright, self.line, self.stop) == (upright, line, start)


@dataclass(frozen=True, eq=False)
class CellLook:
    """The task of looking at a pane of the first band and the cells before it."""

    view: Raster

    @np.errstate(all="ignore")  # infinite values have no steps
    def __call__(self, pane: Pane) -> CellsSeen:
        wide = Pane(max(pane.top - 1, 0), max(pane.left - 1, 0), pane.bottom, pane.right)
        block = self.view.cells(wide)
        known, values = block.valid_of(0), block.cells[0].astype(np.float64)
        inner = pane.within(wide)
        held = values[inner][known[inner]]
        across, down = (_middles(np.diff(values, axis=axis), known, axis, inner) for axis in (1, 0))
        low, high = (_end(values[inner], known[inner], pane, sign) for sign in (1.0, -1.0))
        return CellsSeen(pane, across, down, low, high, Moments.of(held))


def _middles(steps: Array, known: Any, axis: int, inner: tuple[slice, slice]) -> Array:
    """Steps onto each line of the pane along an axis, the mean of their middle half, NaN where few tell.

    The middle half, since an edge of the ground crosses a line only here and there, and a seam follows it.
    """
    pairs = known[:, 1:] & known[:, :-1] if axis == 1 else known[1:] & known[:-1]
    other = 1 - axis
    part: list[Any] = [slice(None), slice(None)]
    part[other] = inner[other]
    steps, pairs = steps[tuple(part)], pairs[tuple(part)]
    lines = inner[axis].stop - inner[axis].start
    found = np.full(lines, np.nan, np.float32)  # of which a large raster has many
    told = np.flatnonzero(pairs.sum(axis=other) >= SIDE // 2)
    if told.size:
        held = np.moveaxis(np.where(pairs, steps, np.nan).take(told, axis=axis), axis, 0)
        if not pairs.all():
            held = np.where(np.isnan(held), np.nanmedian(held, axis=1, keepdims=True), held)
        quarter = held.shape[1] // 4
        middles = np.partition(held, (quarter, held.shape[1] - quarter - 1), axis=1)
        middles = middles[:, quarter : held.shape[1] - quarter].mean(axis=1)
        found[told + lines - steps.shape[axis]] = middles
    return found


def _end(values: Array, known: Any, pane: Pane, sign: float) -> End:
    """The lowest value (sign 1) or the highest (-1)."""
    held = np.where(known & np.isfinite(values), sign * values, np.inf)
    least = float(held.min())
    if not math.isfinite(least):
        return End(math.inf * sign, 0, (0, 0), math.inf * sign)
    here = held == least
    row, column = divmod(int(here.argmax()), pane.columns)
    following = float(held[~here].min(initial=math.inf))
    return End(sign * least, int(here.sum()), (pane.top + row, pane.left + column), sign * following)


@dataclass
class CellFindings:
    """What all panes told, in their order."""

    steps: dict[tuple[bool, int], list[tuple[int, Array]]] = field(default_factory=dict)
    low: End = _NO_LOW
    high: End = _NO_HIGH
    moments: Moments = NONE
    empty: list[Pane] = field(default_factory=list)

    def note(self, seen: CellsSeen) -> None:
        pane = seen.pane
        self.steps.setdefault((True, pane.top), []).append((pane.left, seen.across))
        self.steps.setdefault((False, pane.left), []).append((pane.top, seen.down))
        self.low, self.high = _farther(self.low, seen.low, 1.0), _farther(self.high, seen.high, -1.0)
        self.moments = self.moments.plus(seen.moments)
        if not seen.moments.count:
            self.empty.append(pane)

    @property
    def spread(self) -> float:
        """The standard deviation of all values."""
        return float(np.nan_to_num(self.moments.deviation))

    @property
    def valid(self) -> int:
        """How many cells are valid."""
        return int(self.moments.count)

    def apart(self) -> list[End]:
        """Values at either end that lie further from all others than these from each other."""
        low, high, found = self.low, self.high, []
        others = high.value - low.following, high.following - low.value
        if low.cells and math.isfinite(low.following) and low.following - low.value > _APART * others[0] > 0:
            found.append(low)
        above = high.value - high.following
        if high.cells and math.isfinite(high.following) and above > _APART * others[1] > 0:
            found.append(high)
        return found

    def seams(self, whole: Pane, quantum: float) -> list[Seam]:
        """Lines whose steps stand out from those beside them, and that are no short ones.

        whole: the raster; quantum: by which values differ at least, 0 for floats.
        """
        found: list[Seam] = []
        least = max(_LEAST * self.spread, 1.5 * quantum)
        for (upright, start), parts in sorted(self.steps.items(), key=lambda item: item[0]):
            means = np.concatenate([part for _, part in sorted(parts, key=lambda item: item[0])])
            for line in _standing_out(means, least).tolist():
                step = float(means[line])
                before = next(
                    (n for n, seam in enumerate(found) if seam.continues(upright, line, start)), None
                )
                if before is None:
                    found.append(Seam(upright, line, start, start + SIDE, step))
                else:
                    larger = max(found[before].step, step, key=abs)
                    found[before] = found[before]._replace(stop=start + SIDE, step=larger)
        long = [seam for seam in found if seam.stop - seam.start >= min(
            2 * SIDE, whole.rows // 2 if seam.upright else whole.columns // 2)]  # fmt: skip
        return sorted(long, key=lambda seam: -abs(seam.step) * (seam.stop - seam.start))


def _farther(one: End, other: End, sign: float) -> End:
    """The end over both."""
    first, second = (one, other) if sign * one.value <= sign * other.value else (other, one)
    if one.value == other.value:
        following = sign * min(sign * one.following, sign * other.following)
        place = one.place if one.cells else other.place
        return End(one.value, one.cells + other.cells, place, following)
    following = sign * min(sign * first.following, sign * second.value)
    return first._replace(following=following)


def _standing_out(means: Array, least: float) -> npt.NDArray[np.int64]:
    """Lines whose step is far larger than those of the lines beside them, and alone so."""
    sizes = np.where(np.isfinite(means), np.abs(means), np.nan)
    if not np.isfinite(sizes).any():
        return np.zeros(0, np.int64)
    padded = np.pad(sizes, _NEAR, constant_values=np.nan)
    around = np.lib.stride_tricks.sliding_window_view(padded, 2 * _NEAR + 1)
    told = np.isfinite(around).sum(axis=1) > _NEAR
    usual = np.full(sizes.size, np.inf)
    usual[told] = np.nanmedian(around[told], axis=1)
    beside = np.nan_to_num(around[:, [_NEAR - 2, _NEAR - 1, _NEAR + 1, _NEAR + 2]]).max(axis=1)
    high = np.nan_to_num(sizes)
    return np.flatnonzero((high > np.maximum(_STANDS_OUT * usual, least)) & (high > 2 * beside))
