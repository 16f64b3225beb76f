"""The two ends of a range of values, said by people in values or per cent."""

from __future__ import annotations

from zembrel.engine.run import Means
from zembrel.errors import RefusedError, UsageError
from zembrel.raster.model import Raster
from zembrel.raster.survey import Statistics
from zembrel.verbs.survey import percentiles, seen


def ends_of(view: Raster, text: str, means: Means) -> tuple[float, float]:
    """`0,3000`, or `2%,98%` of all valid cells. Raises UsageError, or RefusedError if all are equal."""
    parts = [part.strip() for part in text.split(",")]
    try:
        numbers = [float(part.rstrip("%")) for part in parts]
    except ValueError:
        numbers = []
    if len(numbers) != 2 or len({part.endswith("%") for part in parts}) != 1 or not numbers[0] < numbers[1]:
        raise UsageError(f"ends {text}", "two are needed, the lower first", "write 0,3000 or 2%,98%")
    if not parts[0].endswith("%"):
        return numbers[0], numbers[1]
    statistics = seen(view, Statistics(), means)
    low = min(tally.low for tally in statistics.tallies)
    high = max(tally.high for tally in statistics.tallies)
    if not low < high:
        raise RefusedError(
            "all values are equal or invalid", "there is no range to stretch", "give the ends as values"
        )
    if numbers == [0, 100]:
        return low, high
    return percentiles(view, (low, high), (numbers[0], numbers[1]), means)
