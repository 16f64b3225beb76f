"""Values in classes: equal intervals, equal counts, natural breaks, or one for each word."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.errors import UsageError, nearest_name
from zembrel.measure import show_number
from zembrel.raster.breaks import WAYS, breaks

Array = npt.NDArray[np.float64]
_MOST_WORDS = 12
_DIGITS = 4  # of the ends of classes, if so many tell them apart


class Classes(NamedTuple):
    """Which class each value is in, -1 for missing, and what each class is called."""

    numbers: npt.NDArray[np.int64]
    names: tuple[str, ...]


def classes_of(values: npt.NDArray[np.object_] | Array, way: str, count: int) -> Classes:
    """Classes of numbers by `way`, or of words by themselves. Raises UsageError for an unknown way."""
    if way not in WAYS:
        raise UsageError(
            f"there are no {way!r} classes", "classes are equal, quantile or natural", nearest_name(way, WAYS)
        )
    held = [value for value in values.tolist() if value is not None and value == value]
    if not all(isinstance(value, int | float) and not isinstance(value, bool) for value in held):
        return _words(values.tolist())
    numbers = np.array([np.nan if value is None else value for value in values.tolist()], np.float64)
    known = numbers[~np.isnan(numbers)]
    if not known.size:
        return Classes(np.full(numbers.size, -1), ())
    edges = np.unique(breaks(known, way, count))
    if edges.size < 2:
        return Classes(np.where(np.isnan(numbers), -1, 0), (show_number(float(edges[0])),))
    place = np.clip(np.searchsorted(edges, numbers, side="left") - 1, 0, edges.size - 2)
    place = np.where(np.isnan(numbers), -1, place)
    return Classes(place, _names(numbers, place, edges.size - 1))


def _names(numbers: Array, place: npt.NDArray[np.int64], count: int) -> tuple[str, ...]:
    """What classes are called: by the lowest and highest value in each, in so many digits that none shares an
    end with the next.
    """
    ends = [(held.min(), held.max()) if (held := numbers[place == n]).size else None for n in range(count)]
    filled = [pair for pair in ends if pair is not None]
    for digits in range(_DIGITS, 17):
        shown = [[float(f"{end:.{digits}g}") for end in pair] for pair in filled]
        if all(one[1] < other[0] for one, other in pairwise(shown)):
            break
    words = iter(
        show_number(low) if low == high else f"{show_number(low)} to {show_number(high)}"
        for low, high in shown
    )
    return tuple("none" if pair is None else next(words) for pair in ends)


def _words(values: Sequence[object]) -> Classes:
    words = ["" if value is None else str(value) for value in values]
    kinds = sorted(set(words) - {""}, key=lambda word: (-words.count(word), word))
    if len(kinds) > _MOST_WORDS:
        kinds = [*kinds[: _MOST_WORDS - 1], "others"]
    place = {word: n for n, word in enumerate(kinds)}
    numbers = [-1 if not word else place.get(word, len(kinds) - 1) for word in words]
    return Classes(np.array(numbers, np.int64), tuple(kinds))
