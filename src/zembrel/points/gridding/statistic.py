"""What is wanted of the points in a cell: a statistic of a value."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.errors import UsageError, nearest_name
from zembrel.raster.model import Band, Block
from zembrel.statistics import STATISTICS, Gathered, StatisticRecord

Array = npt.NDArray[np.float64]

_GATHERED = {"count", "total", "low", "high"}  # in one pass over points
STATS = tuple(
    name
    for name, one in STATISTICS.items()
    if one.picks or (one.of_parts and _GATHERED.issuperset(one.needs))
)


class PointStatistic(NamedTuple):
    """A statistic, its share for percentiles (0 to 1), and the value it is of."""

    stat: str
    value: str = "z"
    share: float = 0.5

    @property
    def record(self) -> StatisticRecord:
        return STATISTICS[self.stat]

    @property
    def counts(self) -> bool:
        """Whether it is of points, not of a value of theirs."""
        return self.record.needs == ("count",)

    def made(self, parts: Gathered, area: float) -> Array:
        """From what a pass gathers, in cells of so many square metres."""
        assert self.record.of_parts is not None
        return np.asarray(self.record.of_parts(parts) / (area if self.record.per_area else 1), np.float64)

    @property
    def ranked(self) -> bool:
        """Whether all values of a cell have to be at hand."""
        return self.record.picks

    @property
    def name(self) -> str:
        """Name of its band."""
        number = f"{100 * self.share:g}" if self.stat == "percentile" else ""
        return f"{self.stat}{number}" + (f"_{self.value}" if self.value != "z" and not self.counts else "")


def bands_of(wanted: Sequence[PointStatistic]) -> tuple[Band, ...]:
    """A band for each: whole numbers if all are counts, else of single precision."""
    kind = "uint32" if all(w.stat == "count" for w in wanted) else "float32"
    return tuple(Band(w.name, kind) for w in wanted)


def as_block(values: npt.NDArray[np.float64], bands: Sequence[Band]) -> Block:
    """Values (bands, rows, columns), NaN where invalid, as a block."""
    valid = ~np.isnan(values)
    alike = len(bands) == 1 or bool((valid == valid[:1]).all())
    cells = np.where(valid, values, 0).astype(bands[0].dtype)
    return Block(cells, None if valid.all() else valid[0] if alike else valid)


def parse_statistic(text: str) -> PointStatistic:
    """`mean`, `max:intensity`, `percentile:90` or `percentile:90:intensity`. Raises UsageError."""
    stat, *rest = text.split(":")
    if stat not in STATS:
        raise UsageError(f"--stat {text}", "it is no statistic of points", nearest_name(stat, STATS))
    share = 0.5
    if stat == "percentile":
        try:
            share = float(rest.pop(0)) / 100
        except (IndexError, ValueError) as exc:
            raise UsageError(
                f"--stat {text}", "a percentile has a number", "write --stat percentile:90"
            ) from exc
        if not 0 <= share <= 1:
            raise UsageError(
                f"--stat {text}", "per cents lie between 0 and 100", "write --stat percentile:90"
            )
    if len(rest) > 1 or (rest and PointStatistic(stat).counts):
        raise UsageError(f"--stat {text}", "a statistic is of one value", f"write --stat {stat}")
    return PointStatistic(stat, rest[0] if rest else "z", share)


def ranks(order: np.ndarray, starts: np.ndarray, counts: np.ndarray, share: float) -> np.ndarray:
    """The value of a share of the way from the smallest to the largest, interpolated, of each group.

    order: values, each group in ascending order; starts, counts: where groups begin, and how many they hold.
    """
    at = (counts - 1) * share
    low = np.floor(at).astype(np.int64)
    high = np.minimum(low + 1, counts - 1)
    one, other = order[starts + low], order[starts + high]
    return np.asarray(one + (other - one) * (at - low))
