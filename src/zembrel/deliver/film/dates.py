"""Dates in names, and a timeline without gaps."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from itertools import pairwise

YEAR, MONTH, DAY = "year", "month", "day"
_PATTERN = re.compile(
    r"(?<!\d)((?:18|19|20|21)\d\d)(?:([-_.]?)(0[1-9]|1[0-2])(?:\2(0[1-9]|[12]\d|3[01]))?)?(?!\d)"
)
_LONGEST = 20  # times as long as the pictures that a timeline may be


@dataclass(frozen=True, order=True)
class Dated:
    """A day, month or year; the first day of a month or year stands for it."""

    first: date
    precision: str = DAY

    def __str__(self) -> str:
        return {YEAR: f"{self.first:%Y}", MONTH: f"{self.first:%Y-%m}", DAY: f"{self.first:%Y-%m-%d}"}[
            self.precision
        ]


def date_in(text: str) -> Dated | None:
    """The last date that a name tells: 2024-05-01, 20240501, 2024_05 or 2024."""
    for year, _, month, day in reversed(_PATTERN.findall(text)):
        precision = DAY if day else MONTH if month else YEAR
        try:
            return Dated(date(int(year), int(month or 1), int(day or 1)), precision)
        except ValueError:  # the 31st of a month of 30 days
            continue
    return None


def timeline(dates: Sequence[Dated]) -> list[int | None]:
    """Numbers of the pictures in order of their dates, with None for each date that is missing between them.

    The step is the shortest between two dates; where steps are so uneven that next to nothing would be there,
    nothing is missing.
    """
    order = sorted(range(len(dates)), key=lambda n: dates[n])
    steps = [_steps(dates[a], dates[b]) for a, b in pairwise(order)]
    shortest = min((step for step in steps if step > 0), default=1)
    if any(step % shortest for step in steps) or sum(steps) // shortest > _LONGEST * len(dates):
        return list(order)
    made: list[int | None] = [order[0]]
    for number, step in zip(order[1:], steps, strict=True):
        made += [None] * max(0, step // shortest - 1)
        made.append(number)
    return made


def _steps(one: Dated, other: Dated) -> int:
    """Years, months or days between two dates, by the coarser of them."""
    years = other.first.year - one.first.year
    if YEAR in (one.precision, other.precision):
        return years
    if MONTH in (one.precision, other.precision):
        return 12 * years + other.first.month - one.first.month
    return (other.first - one.first) // timedelta(days=1)
