"""The two ends of a range of values, said by people in values or per cent."""

from __future__ import annotations

import math

from zembrel.engine.limits import Limits
from zembrel.errors import RefusedError, UsageError
from zembrel.measure import show_number
from zembrel.raster.model import Raster
from zembrel.raster.survey import Statistics
from zembrel.verbs.survey import percentiles, seen


def ends_of(view: Raster, text: str, limits: Limits) -> tuple[float, float]:
    """`0,3000`, or `2%,98%` of all valid cells. Raises UsageError, or RefusedError if all are equal."""
    parts = [part.strip() for part in text.split(",")]
    try:
        numbers = [float(part.rstrip("%")) for part in parts]
    except ValueError:
        numbers = []
    if len(numbers) != 2 or len({part.endswith("%") for part in parts}) != 1 or not numbers[0] < numbers[1]:
        raise UsageError(f"ends {text}", "two are needed, the lower first", "write 0,3000 or 2%,98%")
    if not parts[0].endswith("%"):
        if _like_shares(parts):
            _ask(view, text, numbers, limits)
        return numbers[0], numbers[1]
    statistics = seen(view, Statistics(), limits)
    low = min(tally.low for tally in statistics.tallies)
    high = max(tally.high for tally in statistics.tallies)
    if not (math.isfinite(low) and math.isfinite(high)):
        raise RefusedError(
            "some values are infinite", "a range has two ends", "give the ends as values, 0,3000"
        )
    if not low < high:
        raise RefusedError(
            "all values are equal or invalid", "there is no range to stretch", "give the ends as values"
        )
    if numbers == [0, 100]:
        return low, high
    return percentiles(view, (low, high), (numbers[0], numbers[1]), limits)


def _like_shares(parts: list[str]) -> bool:
    """Whether two whole numbers look like per cent: 2 and 98, 0.5 and 99.5 but not 0 and 100."""
    low, high = (float(part) for part in parts)
    return 0 <= low <= 10 and 90 <= high <= 100 and "." not in "".join(parts) and abs(low + high - 100) < 1e-9


def _ask(view: Raster, text: str, numbers: list[float], limits: Limits) -> None:
    """Raise UsageError where ends that look like per cent can be no values: most of these lie beyond."""
    tallies = [tally for tally in seen(view, Statistics(), limits).tallies if tally.cells]
    low, high = min(tally.low for tally in tallies), max(tally.high for tally in tallies)
    if all(numbers[0] <= tally.mean <= numbers[1] for tally in tallies):
        return
    raise UsageError(
        f"--stretch {text}: values, or per cent?",
        f"values run from {show_number(low)} to {show_number(high)}, and most would be held at one end",
        f"write {'%,'.join(text.split(','))}%, or {'.0,'.join(text.split(','))}.0 for values",
    )
