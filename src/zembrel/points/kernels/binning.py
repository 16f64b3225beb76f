"""Points into cells: counts, sums and ends of values, in one pass.

Coordinates are the stored whole numbers of records; `placing` takes them to columns and rows:
column = X a + b, row = Y c + d. Values are numbers, or stored heights; `meaning` is what those are
multiplied by, and what is added.
"""

from __future__ import annotations

import numpy as np
from numba import njit, types

from zembrel.grid.frame import ON_EDGE

_F = types.float64
_STORED = types.Array(types.int32, 1, "A", readonly=True)
_POINTS = types.Array(_F, 1, "A", readonly=True)
_FLOATS, _COUNTS = types.float64[:, ::1], types.int64[:, ::1]
_PLACING, _MEANING = types.UniTuple(_F, 4), types.UniTuple(_F, 2)


def _for_both(*rest: object) -> list[object]:
    """Signatures for values that are numbers, and for stored ones."""
    return [types.void(_STORED, _STORED, kind, _PLACING, _MEANING, *rest) for kind in (_POINTS, _STORED)]


@njit(_for_both(_COUNTS, _FLOATS), nogil=True, cache=True)
def add_values(x, y, values, placing, meaning, counts, totals):  # type: ignore[no-untyped-def]
    """Count points and sum their values in cells (rows, columns); points outside are left out."""
    a, b, c, d = placing
    scale, offset = meaning
    rows, columns = counts.shape
    for n in range(len(x)):
        column, row = x[n] * a + b, y[n] * c + d
        if column > -ON_EDGE and row > -ON_EDGE and column < columns and row < rows:
            counts[int(row), int(column)] += 1
            totals[int(row), int(column)] += values[n] * scale + offset


@njit(_for_both(_FLOATS), nogil=True, cache=True)
def add_sums(x, y, values, placing, meaning, totals):  # type: ignore[no-untyped-def]
    """Sum values in cells (rows, columns)."""
    a, b, c, d = placing
    scale, offset = meaning
    rows, columns = totals.shape
    for n in range(len(x)):
        column, row = x[n] * a + b, y[n] * c + d
        if column > -ON_EDGE and row > -ON_EDGE and column < columns and row < rows:
            totals[int(row), int(column)] += values[n] * scale + offset


@njit(types.void(_STORED, _STORED, _PLACING, _COUNTS), nogil=True, cache=True)
def add_counts(x, y, placing, counts):  # type: ignore[no-untyped-def]
    """Count points in cells (rows, columns)."""
    a, b, c, d = placing
    rows, columns = counts.shape
    for n in range(len(x)):
        column, row = x[n] * a + b, y[n] * c + d
        if column > -ON_EDGE and row > -ON_EDGE and column < columns and row < rows:
            counts[int(row), int(column)] += 1


@njit(_for_both(_FLOATS, _F), nogil=True, cache=True)
def add_ends(x, y, values, placing, meaning, ends, sign):  # type: ignore[no-untyped-def]
    """The largest value times `sign` in cells (rows, columns), which begin with -inf."""
    a, b, c, d = placing
    scale, offset = meaning
    rows, columns = ends.shape
    for n in range(len(x)):
        column, row = x[n] * a + b, y[n] * c + d
        if column > -ON_EDGE and row > -ON_EDGE and column < columns and row < rows:
            value = (values[n] * scale + offset) * sign
            if value > ends[int(row), int(column)]:
                ends[int(row), int(column)] = value


@njit(types.void(_STORED, _STORED, _STORED, _POINTS, _PLACING, _FLOATS, _FLOATS), nogil=True, cache=True)
def add_topmost(x, y, z, values, placing, heights, held):  # type: ignore[no-untyped-def]
    """The value of the highest point of each cell (rows, columns); heights, as stored, begin with -inf."""
    a, b, c, d = placing
    rows, columns = heights.shape
    for n in range(len(x)):
        column, row = x[n] * a + b, y[n] * c + d
        if (
            column >= 0
            and row >= 0
            and column < columns
            and row < rows
            and z[n] > heights[int(row), int(column)]
        ):
            heights[int(row), int(column)] = np.float64(z[n])
            held[int(row), int(column)] = values[n]
