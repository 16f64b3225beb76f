"""The two ends of a range of values, said by people in values or per cent, and what they fill."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from zembrel.engine.limits import Limits
from zembrel.errors import RefusedError, UsageError
from zembrel.facts import Fact, fact
from zembrel.measure import show_number
from zembrel.passes.survey import finite_ends, percentiles, seen
from zembrel.raster.model import ALPHA, Raster
from zembrel.raster.survey import Statistics
from zembrel.raster.views.bands import select_bands, stack
from zembrel.raster.views.cast import cast
from zembrel.raster.views.opacity import colours_of, top_of

WHOLE = "0%,100%"  # from the lowest value to the highest
_EACH = "each:"  # before ends that are sought in each band for itself


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
    low, high = finite_ends(view, limits, "a range has two ends", "give the ends as values, 0,3000")
    if not low < high:
        raise RefusedError(
            "all values are equal or invalid", "there is no range to stretch", "give the ends as values"
        )
    if numbers == [0, 100]:
        return low, high
    return percentiles(view, (numbers[0], numbers[1]), limits)


def ends_of_all(views: Sequence[Raster], text: str, limits: Limits) -> tuple[float, float]:
    """The lowest and the highest end of several views, some of which may have one value alone.

    Raises as `ends_of` does, RefusedError if all values of all views are equal.
    """
    ends = []
    for view in views:
        tallies = [tally for tally in seen(view, Statistics(), limits).tallies if tally.cells]
        low, high = (
            min((t.low for t in tallies), default=math.inf),
            max((t.high for t in tallies), default=0.0),
        )
        if not tallies:
            continue
        plain = text == WHOLE and math.isfinite(low) and math.isfinite(high)  # known already
        spread = low < high or not text.rstrip().endswith("%")
        ends.append(ends_of(view, text, limits) if spread and not plain else (low, high))
    low, high = min((a for a, _ in ends), default=0.0), max((b for _, b in ends), default=0.0)
    if not low < high:
        raise RefusedError(
            "all values are equal or invalid", "there is no range to stretch", "give the ends as values"
        )
    return low, high


def stretched(view: Raster, ends: str, wanted: str, limits: Limits) -> tuple[Raster, list[Fact]]:
    """`view` in type `wanted`, what lies between two ends over all of its range; after `each:` each band by
    ends of its own. Raises as `ends_of` does."""
    if ends.startswith(_EACH):
        return _each_stretched(view, ends.removeprefix(_EACH), wanted, limits)
    low, high = ends_of(colours_of(view), ends, limits)
    top = float(np.iinfo(wanted).max) if np.dtype(wanted).kind in "iu" else 1.0
    gain = top / (high - low)
    return cast(view, wanted, gain, -low * gain), [fact("stretched", low=low, high=high, top=top)]


def _each_stretched(view: Raster, ends: str, wanted: str, limits: Limits) -> tuple[Raster, list[Fact]]:
    """Each band over the range of the type by ends of its own; opacity stays."""
    made, said = [], []
    for n, band in enumerate(view.bands):
        alone = select_bands(view, (n,))
        if band.colour == ALPHA:
            made.append(cast(alone, wanted, top_of(np.dtype(wanted)) / top_of(band.dtype)))
            continue
        low, high = ends_of(alone, ends, limits)
        gain = top_of(np.dtype(wanted)) / (high - low)
        made.append(cast(alone, wanted, gain, -low * gain))
        said.append(f"{band.name} {show_number(low)} to {show_number(high)}")
    return stack(tuple(made)), [fact("stretched_each", bands=tuple(said))]


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
