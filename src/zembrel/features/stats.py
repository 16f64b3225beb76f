"""Statistics by name: `count`, `mean:speed`, `percentile:90`, `percentile:90:depth`."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.errors import UsageError, nearest_name
from zembrel.statistics import STATISTICS

WITHOUT_FIELD = ("count", "length", "share")
NAMES = (
    *(name for name, one in STATISTICS.items() if one.of_values),
    "quartiles",
    "histogram",
    "length",
    "share",
)
SPELT = ", ".join("percentile:90" if name == "percentile" else name for name in NAMES)  # as they are typed


class Stat(NamedTuple):
    """A statistic: its name, of which field, and the share of a percentile."""

    name: str
    field: str | None = None
    share: float = 0.5

    @property
    def label(self) -> str:
        """The name of a field or band that holds it."""
        name = f"p{100 * self.share:g}" if self.name == "percentile" else self.name
        return f"{name}_{self.field}" if self.field else name


def parse_stats(texts: tuple[str, ...]) -> list[Stat]:
    """Statistics in the given order; quartiles become three percentiles. Raises UsageError."""
    found: list[Stat] = []
    for text in texts or ("count",):
        name, *rest = text.split(":")
        if name not in NAMES:
            raise UsageError(
                f"there is no statistic {name!r}", "see zembrel tally --help", nearest_name(name, NAMES)
            )
        share = 0.5
        if name == "percentile":
            share = _share(text, rest)
            rest = rest[1:]
        if len(rest) > 1:
            raise UsageError(f"--stat {text}", "NAME or NAME:FIELD is needed", "write --stat mean:depth")
        field = rest[0] if rest else None
        if name == "quartiles":
            found += [Stat("percentile", field, part) for part in (0.25, 0.5, 0.75)]
        else:
            found.append(Stat(name, field, share))
    return list(dict.fromkeys(found))


def _share(text: str, rest: list[str]) -> float:
    try:
        share = float(rest[0]) / 100
    except (IndexError, ValueError):
        share = -1.0
    if not 0 <= share <= 1:
        raise UsageError(
            f"--stat {text}", "a percentile has a rank from 0 to 100", "write --stat percentile:90"
        )
    return share


def statistic(stat: Stat, values: npt.NDArray[np.float64]) -> float:
    """A statistic of plain numbers, NaN left out; NaN for none."""
    held = values[~np.isnan(values)]
    made = STATISTICS[stat.name].of_values
    if made is None:
        raise LookupError(stat.name)
    if stat.name == "count":
        return float(values.size)
    return float(made(held, stat.share)) if held.size else float("nan")
