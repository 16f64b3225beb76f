"""How far two rasters on the same cells differ, learned in passing."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.legend import Legend, LegendEntry
from zembrel.raster.model import Band, Block, Raster

_PIECE = 131_072  # cells at a time, which stay in the processor's cache
_SHIFT = 16  # bits of a single-precision float that a bin does not tell: bins are 1/128 of their value wide
_NONE = np.zeros(0, np.int64)
_TABLE = 1_000_000  # pairs of codes that are counted without sorting
_BINS = 1 << (31 - _SHIFT)  # of one sign


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

    @np.errstate(all="ignore")  # infinite values have no difference
    def cells(self, pane: Pane) -> Block:
        first, second = self.one.cells(pane), self.other.cells(pane)
        apart = first.cells.astype(np.float64) - second.cells.astype(np.float64)
        if first.valid is None and second.valid is None:
            return Block(apart)
        both = np.stack([first.valid_of(n) & second.valid_of(n) for n in range(len(apart))])
        return Block(np.where(both, apart, 0.0), both)


_ALIKE = Legend.of(
    (LegendEntry(0, "the same class", (232, 230, 224)), LegendEntry(1, "another class", (178, 24, 43)))
)


@dataclass(frozen=True)
class Disagreeing:
    """Where two rasters of one band of codes on one frame tell the same class (0) and where not (1)."""

    one: Raster
    other: Raster
    bands: tuple[Band, ...] = (Band("difference", "uint8", legend=_ALIKE),)

    @property
    def frame(self) -> Frame:
        return self.one.frame

    def cells(self, pane: Pane) -> Block:
        first, second = self.one.cells(pane), self.other.cells(pane)
        valid = first.valid_of(0) & second.valid_of(0)
        return Block(((first.cells != second.cells) & valid).astype(np.uint8), valid)


class DifferencesSeen(NamedTuple):
    """What a block tells: counts, sums, the ends with the place of the farthest, and counts by size."""

    cells: int
    equal: int
    within: tuple[int, ...]
    alone: tuple[int, int]
    total: float
    squares: float
    low: float
    high: float
    worst: tuple[float, int, int, int]  # difference, band, row, column
    sizes: npt.NDArray[np.int64]


@dataclass
class Differences:
    """An observer of the bands of one raster and then those of another: counts, sums and ends over all.

    tolerances: how far apart cells may be to count as within each.
    """

    tolerances: Sequence[float] = (0.0,)
    cells: int = 0
    equal: int = 0
    within: list[int] = field(default_factory=list)
    one_alone: int = 0
    other_alone: int = 0
    total: float = 0.0
    squares: float = 0.0
    low: float = math.inf
    high: float = -math.inf
    worst: tuple[float, int, int, int] = (0.0, 0, 0, 0)
    sizes: npt.NDArray[np.int64] = field(default_factory=lambda: np.zeros(2 * _BINS, np.int64))

    @np.errstate(all="ignore")  # infinite values have no difference
    def look(self, pane: Pane, block: Block) -> DifferencesSeen:
        bands = len(block.cells) // 2
        whole = Differences(self.tolerances)
        for band in range(bands):
            one, other, known = block.cells[band], block.cells[band + bands], None
            if block.valid is not None:
                first, second = block.valid_of(band), block.valid_of(band + bands)
                known = first & second
                whole.one_alone += int((first & ~second).sum())
                whole.other_alone += int((second & ~first).sum())
            bins = np.empty(one.size if known is None else int(known.sum()), np.uint16)
            done = 0
            for values, start, at in _pieces(one, other, known):
                self._add(whole, values, (start, at), (band, pane))
                bins[done : done + values.size] = values.astype(np.float32).view(np.uint32) >> _SHIFT
                done += values.size
            whole.sizes += np.bincount(bins, minlength=2 * _BINS)
        within = tuple(whole.within) or (0,) * len(self.tolerances)
        alone, ends = (whole.one_alone, whole.other_alone), (whole.low, whole.high, whole.worst)
        return DifferencesSeen(
            whole.cells, whole.equal, within, alone, whole.total, whole.squares, *ends, whole.sizes
        )

    def _add(self, whole: Differences, values: Any, place: tuple[int, Any], where: tuple[int, Pane]) -> None:
        """What some cells tell of a band of a pane."""
        (start, at), (band, pane) = place, where
        ends = int(values.argmin()), int(values.argmax())
        low, high = (float(values[end]) for end in ends)
        farthest = ends[0] if -low > high else ends[1]
        row, column = divmod(start + (farthest if at is None else int(at[farthest])), pane.columns)
        equal = values.size - int(np.count_nonzero(values != 0))
        within = [
            equal if not size else int(np.count_nonzero(np.abs(values) <= size)) for size in self.tolerances
        ]
        worst = float(values[farthest]), band, pane.top + row, pane.left + column
        sums = float(values.sum()), float(np.einsum("i,i", values, values))
        whole.note(DifferencesSeen(values.size, equal, tuple(within), (0, 0), *sums, low, high, worst, _NONE))

    def note(self, seen: DifferencesSeen) -> None:
        self.cells += seen.cells
        self.equal += seen.equal
        held = self.within or [0] * len(self.tolerances)
        self.within = [one + other for one, other in zip(held, seen.within, strict=True)]
        self.one_alone += seen.alone[0]
        self.other_alone += seen.alone[1]
        self.total += seen.total
        self.squares += seen.squares
        self.low, self.high = min(self.low, seen.low), max(self.high, seen.high)
        if abs(seen.worst[0]) > abs(self.worst[0]):
            self.worst = seen.worst
        if seen.sizes.size:
            self.sizes += seen.sizes

    def figures(self) -> dict[str, float]:
        """By name: share, bias, rms, max, cells, equal and alone (cells that only one of the two has)."""
        count = max(self.cells, 1)
        return {
            "share": self.shares[0],
            "bias": self.total / count,
            "rms": (self.squares / count) ** 0.5,
            "max": max(abs(self.low), abs(self.high)) if self.cells else 0.0,
            "cells": self.cells,
            "equal": self.equal,
            "alone": self.one_alone + self.other_alone,
        }

    @property
    def shares(self) -> list[float]:
        """The share of cells within each tolerance."""
        return [
            held / self.cells if self.cells else 0.0 for held in self.within or [0] * len(self.tolerances)
        ]

    def percentiles(self, wanted: Sequence[float]) -> list[float]:
        """Sizes of differences that so many per cent of cells do not exceed, to 1 % of their value."""
        counts = self.sizes[:_BINS] + self.sizes[_BINS:]
        below = np.cumsum(counts) / max(counts.sum(), 1)
        top = max(abs(self.low), abs(self.high)) if self.cells else 0.0
        values = _values()
        return [min(float(values[int(np.searchsorted(below, share / 100))]), top) for share in wanted]

    def histogram(self, edges: npt.NDArray[np.float64]) -> npt.NDArray[np.int64]:
        """Counts of differences between `edges`, to 1 % of their value."""
        middles = _values() * (1 + 0.5 / (1 << (23 - _SHIFT)))
        values = np.concatenate([middles, -middles])
        return np.histogram(values, edges, weights=self.sizes)[0].astype(np.int64)


def _values() -> npt.NDArray[np.float64]:
    """The smallest number in each bin of one sign: whole numbers up to 256 stand for themselves."""
    with np.errstate(invalid="ignore"):  # the last bins stand for what is no number
        return (np.arange(_BINS, dtype=np.uint32) << _SHIFT).view(np.float32).astype(np.float64)


def _pieces(one: Any, other: Any, known: Any) -> Iterator[tuple[Any, int, Any]]:
    """Differences of cells that both have, where each piece begins, and which of it are these if not all."""
    first, second = one.reshape(-1), other.reshape(-1)
    held = None if known is None or known.all() else known.reshape(-1)
    for start in range(0, first.size, _PIECE):
        part = slice(start, start + _PIECE)
        values = np.subtract(first[part], second[part], dtype=np.float64)
        if held is None:
            yield values, start, None
            continue
        at = np.flatnonzero(held[part])
        if at.size:
            yield values[at], start, at


@dataclass
class Confusion:
    """An observer of two bands of codes: how many cells have each pair, and their area.

    size_of: the areas of the cells in each row of a pane, (rows,), if they are wanted.
    """

    size_of: Callable[[Pane], npt.NDArray[np.float64]] | None = None
    pairs: Counter[tuple[int, int]] = field(default_factory=Counter)
    areas: dict[tuple[int, int], float] = field(default_factory=dict)

    def look(self, pane: Pane, block: Block) -> list[tuple[int, int, int, float]]:
        known = block.valid_of(0) & block.valid_of(1)
        one, other = (block.cells[band][known].astype(np.int64) for band in (0, 1))
        if not one.size:
            return []
        start, low = int(one.min()), int(other.min())
        span = int(other.max()) - low + 1
        pairs = (one - start) * span + (other - low)
        if (int(one.max()) - start + 1) * span <= _TABLE:
            every = np.bincount(pairs)
            keys = np.flatnonzero(every)
            counts = every[keys]
        else:
            keys, counts = np.unique(pairs, return_counts=True)
        areas: npt.NDArray[np.float64] = np.zeros(keys.size)
        if self.size_of is not None:
            sizes = np.broadcast_to(self.size_of(pane)[:, None], pane.shape)[known]
            areas[:] = np.bincount(np.searchsorted(keys, pairs), sizes, keys.size)
        codes = (keys // span + start).tolist(), (keys % span + low).tolist()
        return list(zip(*codes, counts.tolist(), areas.tolist(), strict=True))

    def note(self, seen: list[tuple[int, int, int, float]]) -> None:
        for one, other, count, area in seen:
            self.pairs[one, other] += count
            if self.size_of is not None:
                self.areas[one, other] = self.areas.get((one, other), 0.0) + area

    @property
    def agreement(self) -> float:
        """The share of cells with the same code in both."""
        total = sum(self.pairs.values())
        return sum(count for (one, other), count in self.pairs.items() if one == other) / max(total, 1)

    @property
    def beyond_chance(self) -> float:
        """Kappa: agreement beyond what shuffled classes of the same sizes would have, 1 where all agree.

        Source: J. Cohen, "A coefficient of agreement for nominal scales", Educational and Psychological
        Measurement 20 (1960).
        """
        total = max(sum(self.pairs.values()), 1)
        rows, columns = Counter[int](), Counter[int]()
        for (one, other), count in self.pairs.items():
            rows[one] += count
            columns[other] += count
        chance = sum(count * columns[code] for code, count in rows.items()) / total**2
        return (self.agreement - chance) / (1 - chance) if chance < 1 else 1.0
