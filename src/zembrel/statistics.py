"""The statistics: one record each, with a function for each way in which values arrive.

Points and zones use sums gathered in one pass, or all values with weights. Features and sampled places use
plain numbers. A statistic is offered wherever its record has the function. To add one, add a record.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.moments import Moments

Array = npt.NDArray[np.float64]


class Gathered(NamedTuple):
    """Sums and extremes of one or many sets of values. Parts that no statistic needs may be None."""

    moments: Moments
    low: Any = None
    high: Any = None


@dataclass(frozen=True)
class Held:
    """Distinct values in ascending order, and how many cells have each, which may be fractions."""

    values: Array
    weights: Array

    def rank(self, share: float) -> float:
        """The quantile of a share, or NaN: for whole cells that of definition 7 of R. J. Hyndman and Y. Fan,
        "Sample quantiles in statistical packages", The American Statistician 50 (1996).

        For shares of cells it is its weighted form: the mean of the sorted values over one cell, from
        `share` of all cells but one on (A. Akinshin, "Weighted quantile estimators", 2023, section 3).
        """
        if not self.values.size:
            return float("nan")
        ends = np.cumsum(self.weights)
        window = min(1.0, float(ends[-1]))
        begin = share * (float(ends[-1]) - window)
        inside = np.minimum(ends, begin + window) - np.maximum(ends - self.weights, begin)
        inside = np.maximum(inside, 0.0)
        first = int(np.argmax(inside > 0))
        rest = inside[first:] @ (self.values[first:] - self.values[first])
        return float(self.values[first] + rest / inside.sum())

    def occurring(self, share: float) -> float:
        """The lowest value that with those below it has at least a share of the cells, or NaN."""
        if not self.values.size:
            return float("nan")
        ends = np.cumsum(self.weights)
        return float(self.values[min(int(np.searchsorted(ends, share * ends[-1] - 1e-9)), ends.size - 1)])

    @property
    def most(self) -> float:
        """The value of most cells, the lowest of equals; NaN for none."""
        return float(self.values[np.argmax(self.weights)]) if self.values.size else float("nan")


@dataclass(frozen=True)
class StatisticRecord:
    """How a statistic is computed for each kind of input.

    needs: parts of `Gathered`: count, total, squares, low, high; of_parts: computes it from these, NaN
    without a value; of_values: from plain numbers, at least one, and a share; of_held: from weighted values
    and a share; of_codes: the same for class codes, returns a code that occurs; rank: its fixed share between
    the smallest and the largest value; picks: True for quantiles; averages: True if its results mean nothing
    for class codes; per_area: True if points are counted per square metre.
    """

    needs: tuple[str, ...] = ()
    of_parts: Callable[[Gathered], Any] | None = None
    of_values: Callable[[npt.NDArray[Any], float], Any] | None = None
    of_held: Callable[[Held, float], float] | None = None
    of_codes: Callable[[Held, float], float] | None = None
    rank: float | None = None
    picks: bool = False
    averages: bool = False
    per_area: bool = False


def _known(parts: Gathered, values: Any) -> Any:
    return np.where(np.asarray(parts.moments.count) > 0, values, np.nan)


def _most(values: npt.NDArray[Any], share: float) -> Any:
    kinds, counts = np.unique(values, return_counts=True)
    return kinds[np.argmax(counts)]


def _quantile(values: npt.NDArray[Any], share: float) -> Any:
    return np.quantile(values.astype(np.float64), share)


STATISTICS: Mapping[str, StatisticRecord] = {
    "count": StatisticRecord(("count",), lambda p: p.moments.count, lambda v, _: v.size),
    "density": StatisticRecord(("count",), lambda p: p.moments.count, per_area=True),
    "sum": StatisticRecord(
        ("count", "total"), lambda p: _known(p, p.moments.total), lambda v, _: v.astype(np.float64).sum(),
        averages=True,
    ),
    "mean": StatisticRecord(
        ("count", "total"), lambda p: p.moments.mean, lambda v, _: v.astype(np.float64).mean(), averages=True
    ),
    "min": StatisticRecord(("count", "low"), lambda p: _known(p, p.low), lambda v, _: v.min()),
    "max": StatisticRecord(("count", "high"), lambda p: _known(p, p.high), lambda v, _: v.max()),
    "deviation": StatisticRecord(
        ("count", "total", "squares"), lambda p: p.moments.deviation, lambda v, _: v.astype(np.float64).std(),
        averages=True,
    ),
    "median": StatisticRecord((), None, _quantile, Held.rank, Held.occurring, rank=0.5, picks=True),
    "percentile": StatisticRecord((), None, _quantile, Held.rank, Held.occurring, picks=True),
    "majority": StatisticRecord((), None, _most, lambda h, _: h.most, lambda h, _: h.most),
}  # fmt: skip
