"""The even split of a layer into the fewest sheets of which none is larger than a given size."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator

import numpy as np
import numpy.typing as npt

MOST_SHEETS = 10_000
_UNSURE = 1.1  # times the size by which a prediction may be too high
_LONGEST = 3  # times its width that a sheet is long at most, unless the whole is longer
Array = npt.NDArray[np.float64]


def fewest(
    parts: Array, a_file: float, most: float, shape: tuple[float, float], largest: Callable[[Array], float]
) -> tuple[int, int] | None:
    """Return columns and rows of the split into the fewest sheets that fit, or None beyond MOST_SHEETS.

    parts: bytes of the parts of an even split, (rows, columns); a_file: bytes that every file has; most:
    bytes of a sheet; shape: width and height of the whole, for sheets as nearly square as possible; largest:
    the true bytes of the largest sheet of a split, or of any that is too large, from the predicted bytes of
    its sheets (rows, columns). It is called only where the prediction does not exclude a split.
    """
    sums = np.zeros((parts.shape[0] + 1, parts.shape[1] + 1))
    sums[1:, 1:] = np.maximum(parts - a_file, 0).cumsum(axis=0).cumsum(axis=1)
    if a_file > most:
        return None
    for count in range(max(1, math.ceil(sums[-1, -1] / (_UNSURE * most))), MOST_SHEETS + 1):
        for columns, rows in _splits(count, shape):
            predicted = _sheets(sums, columns, rows) + a_file
            if predicted.max() <= _UNSURE * most and largest(predicted) <= most:
                return columns, rows
    return None


def _splits(count: int, shape: tuple[float, float]) -> Iterator[tuple[int, int]]:
    """Columns and rows of `count` sheets, those first whose sheets are most nearly square."""
    width, height = shape
    pairs = [(n, count // n) for n in range(1, count + 1) if count % n == 0]
    longer = sorted((abs(math.log(width / pair[0] * pair[1] / height)), pair) for pair in pairs)
    longest = max(math.log(_LONGEST), abs(math.log(width / height))) + 1e-9
    return (pair for long, pair in longer if long <= longest)


def _sheets(sums: Array, columns: int, rows: int) -> Array:
    """The bytes of the sheets of a split: sums of parts, in between in proportion."""
    down = np.linspace(0, len(sums) - 1, rows + 1)
    across = np.linspace(0, sums.shape[1] - 1, columns + 1)
    return np.diff(np.diff(_between(_between(sums, down).T, across).T, axis=0), axis=1)


def _between(values: Array, at: Array) -> Array:
    """Rows of `values` at fractional numbers."""
    low = np.minimum(at.astype(np.int64), len(values) - 2)
    share = (at - low)[:, None]
    found: Array = (1 - share) * values[low] + share * values[low + 1]
    return found
