"""What is wanted of the points in a cell: a statistic of a value."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.errors import UsageError, nearest_name
from zembrel.raster.model import Band, Block

Array = npt.NDArray[np.float64]
COUNT, SUM, END, ALL = range(4)  # what is gathered of the points in a cell; ALL: each value
Finish = Callable[[npt.NDArray[np.int64], Array, float], Array]


class StatisticKind(NamedTuple):
    """What a statistic gathers, and how counts, what was gathered and the square metres of a cell make it.

    END gathers the largest of the values times `sign`. rank: the share of the way from the smallest to the
    largest value that is picked, where all are at hand; None for one that is given.
    """

    gathers: int
    finish: Finish
    sign: float = 1.0
    rank: float | None = None


def _known(counts: npt.NDArray[np.int64], held: Array, area: float) -> Array:
    return np.where(counts > 0, held, np.nan)


def _of_all(counts: npt.NDArray[np.int64], held: Array, area: float) -> Array:
    raise LookupError("a rank needs all values")


STATS = {
    "min": StatisticKind(END, lambda counts, held, area: _known(counts, -held, area), -1.0, 0.0),
    "max": StatisticKind(END, _known, 1.0, 1.0),
    "mean": StatisticKind(SUM, lambda counts, held, _: held / counts),
    "sum": StatisticKind(SUM, _known),
    "count": StatisticKind(COUNT, lambda counts, *_: counts.astype(np.float64)),
    "density": StatisticKind(COUNT, lambda counts, _, area: counts / area),
    "median": StatisticKind(ALL, _of_all, rank=0.5),
    "percentile": StatisticKind(ALL, _of_all),
}


class PointStatistic(NamedTuple):
    """A statistic, its share for percentiles (0 to 1), and the value it is of."""

    stat: str
    value: str = "z"
    share: float = 0.5

    @property
    def kind(self) -> StatisticKind:
        return STATS[self.stat]

    @property
    def ranked(self) -> bool:
        """Whether all values of a cell have to be at hand."""
        return self.kind.gathers == ALL

    @property
    def name(self) -> str:
        """Name of its band."""
        number = f"{100 * self.share:g}" if self.stat == "percentile" else ""
        return f"{self.stat}{number}" + (
            f"_{self.value}" if self.value != "z" and self.kind.gathers != COUNT else ""
        )


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
    if len(rest) > 1 or (rest and STATS[stat].gathers == COUNT):
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
