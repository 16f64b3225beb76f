"""The levels of contour: an interval, given values, or classes of equally many cells."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

import numpy as np

from zembrel.errors import InputError, RefusedError, UsageError
from zembrel.facts import Fact, fact
from zembrel.inputs.options import Output
from zembrel.measure import show_number
from zembrel.optiontext import OptionText
from zembrel.passes.survey import quantiles
from zembrel.raster.model import Raster

_MOST_LEVELS = 10_000
_USUAL = 10  # steps over the range, if nobody says


@dataclass(frozen=True)
class Contouring:
    """At which values: an interval counted from a base, given levels, or classes of equally many cells.

    filled: areas between the levels instead of lines; beyond: also the areas below the first level and above
    the last; index: every so many intervals is flagged; smooth: whether the surface is softened first.
    """

    interval: Annotated[
        float | None, OptionText("Spacing of the levels, in the unit of the values.", "VALUE")
    ] = None
    base: Annotated[float, OptionText("Value from which the levels are counted.", "VALUE")] = 0.0
    levels: Annotated[str | None, OptionText("Draw these levels, e.g. 5,10,50.", "LIST")] = None
    classes: Annotated[
        int | None, OptionText("Choose levels that form N classes with equal numbers of cells.", "N")
    ] = None
    filled: Annotated[bool, OptionText("Write the areas between the levels.")] = False
    beyond: Annotated[
        bool, OptionText("With --filled: also write the areas below the first and above the last level.")
    ] = False
    index: Annotated[int, OptionText("Mark every Nth level as an index contour. 0 marks none.", "N")] = 5
    smooth: Annotated[bool, OptionText("Smooth the surface before contouring.")] = False


def check(contouring: Contouring) -> None:
    if contouring.beyond and not (contouring.filled and contouring.levels):
        raise UsageError(
            "--beyond adds areas outside given levels",
            "without --filled there are no areas; without --levels they hold all values",
            "add --filled and --levels 5,10,50, or leave --beyond out",
        )


def levels_of(
    raster: Raster, ends: tuple[float, float], contouring: Contouring, output: Output
) -> tuple[list[float], list[Fact]]:
    low, high = ends
    asked = [contouring.interval, contouring.levels, contouring.classes]
    if sum(one is not None for one in asked) > 1:
        raise UsageError(
            "levels are said once",
            "--interval, --levels and --classes exclude each other",
            "keep one of them",
        )
    if contouring.levels is not None:
        levels = _given(contouring.levels)
    elif contouring.classes is not None:
        levels = _equal_counts(raster, ends, contouring, output)
    else:
        interval = contouring.interval
        assert interval is not None
        if not interval > 0 or not math.isfinite(interval):
            raise UsageError(f"--interval {interval:g}", "lines lie some way apart", "write --interval 20")
        first = math.floor((low - contouring.base) / interval)
        last = math.ceil((high - contouring.base) / interval)
        if last - first > _MOST_LEVELS:
            raise RefusedError(
                f"--interval {interval:g} makes {last - first:,} levels",
                f"values run from {show_number(low)} to {show_number(high)}",
                f"at most {_MOST_LEVELS:,} are drawn: write a larger one",
            )
        levels = [contouring.base + n * interval for n in range(first, last + 1)]
    if contouring.filled:
        _check_areas(levels, ends, contouring)
    else:
        levels = [level for level in levels if low <= level < high]
    said = [fact("levels", levels=len(levels), lowest=levels[0], highest=levels[-1])] if levels else []
    if not levels:
        raise InputError(
            "no level lies within the values",
            f"these run from {show_number(low)} to {show_number(high)}",
            "choose other --levels, or a smaller --interval",
        )
    return levels, [*said, *([fact("softened")] if contouring.smooth else [])]


def _check_areas(levels: Sequence[float], ends: tuple[float, float], contouring: Contouring) -> None:
    """Raises InputError where no value lies between the levels."""
    if contouring.beyond:
        return
    if len(levels) < 2 or levels[0] > ends[1] or levels[-1] < ends[0]:
        raise InputError(
            "no value lies between two levels",
            f"levels are {', '.join(show_number(level) for level in levels[:5])}; values run from "
            f"{show_number(ends[0])} to {show_number(ends[1])}",
            "choose other --levels, or add --beyond for what lies outside them",
        )


def _given(text: str) -> list[float]:
    try:
        levels = [float(part) for part in text.split(",")]
    except ValueError as exc:
        raise UsageError(f"--levels {text}", "numbers are needed", "write --levels 5,10,50") from exc
    if sorted(set(levels)) != levels or not np.isfinite(levels).all():
        raise UsageError(f"--levels {text}", "they have to rise", "write --levels 5,10,50")
    return levels


def _equal_counts(
    raster: Raster, ends: tuple[float, float], contouring: Contouring, output: Output
) -> list[float]:
    """The values between classes of equally many cells, and the ends."""
    count = int(contouring.classes or 0)
    if not 2 <= count <= _MOST_LEVELS:
        raise UsageError(f"--classes {count}", "2 and more make levels", "write --classes 5")
    shares = [n / count for n in range(1, count)]
    return sorted({ends[0], *quantiles([raster], shares, output.limits), ends[1]})


def nice_step(span: float) -> float:
    """1, 2 or 5 times a power of ten, so that about ten make the span."""
    if span <= 0:
        return 1.0
    power = 10.0 ** math.floor(math.log10(span / _USUAL))
    return next(float(step * power) for step in (1, 2, 5, 10) if step * power * _USUAL >= span * 0.999)
