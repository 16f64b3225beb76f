"""Points into cells: counts, sums and ends of values, in one pass."""

from __future__ import annotations

import numpy as np
from numba import njit, types

_F, _I = types.float64, types.int64
_POINTS = types.Array(_F, 1, "A", readonly=True)
_FLOATS, _COUNTS = types.float64[:, ::1], types.int64[:, ::1]
_LATTICE = types.Tuple((_F, _F, _F, _F))  # x and y of the upper left corner, cells per unit along x and y


@njit(types.void(_POINTS, _POINTS, _POINTS, _LATTICE, _COUNTS, _FLOATS), nogil=True, cache=True)
def add_values(x, y, values, lattice, counts, totals):  # type: ignore[no-untyped-def]
    """Count points and sum their values in cells (rows, columns); points outside are left out."""
    left, top, across, down = lattice
    rows, columns = counts.shape
    for n in range(len(x)):
        column, row = np.floor((x[n] - left) * across), np.floor((top - y[n]) * down)
        if 0 <= column < columns and 0 <= row < rows:
            counts[int(row), int(column)] += 1
            totals[int(row), int(column)] += values[n]


@njit(types.void(_POINTS, _POINTS, _POINTS, _LATTICE, _FLOATS), nogil=True, cache=True)
def add_sums(x, y, values, lattice, totals):  # type: ignore[no-untyped-def]
    """Sum values in cells (rows, columns); points outside are left out."""
    left, top, across, down = lattice
    rows, columns = totals.shape
    for n in range(len(x)):
        column, row = np.floor((x[n] - left) * across), np.floor((top - y[n]) * down)
        if 0 <= column < columns and 0 <= row < rows:
            totals[int(row), int(column)] += values[n]


@njit(types.void(_POINTS, _POINTS, _LATTICE, _COUNTS), nogil=True, cache=True)
def add_counts(x, y, lattice, counts):  # type: ignore[no-untyped-def]
    """Count points in cells (rows, columns)."""
    left, top, across, down = lattice
    rows, columns = counts.shape
    for n in range(len(x)):
        column, row = np.floor((x[n] - left) * across), np.floor((top - y[n]) * down)
        if 0 <= column < columns and 0 <= row < rows:
            counts[int(row), int(column)] += 1


@njit(types.void(_POINTS, _POINTS, _POINTS, _LATTICE, _FLOATS, _F), nogil=True, cache=True)
def add_ends(x, y, values, lattice, ends, sign):  # type: ignore[no-untyped-def]
    """The largest value times `sign` in cells (rows, columns), which begin with -inf."""
    left, top, across, down = lattice
    rows, columns = ends.shape
    for n in range(len(x)):
        column, row = np.floor((x[n] - left) * across), np.floor((top - y[n]) * down)
        if 0 <= column < columns and 0 <= row < rows and values[n] * sign > ends[int(row), int(column)]:
            ends[int(row), int(column)] = values[n] * sign


@njit(types.void(_POINTS, _POINTS, _POINTS, _POINTS, _LATTICE, _FLOATS, _FLOATS), nogil=True, cache=True)
def add_topmost(x, y, z, values, lattice, heights, held):  # type: ignore[no-untyped-def]
    """The value of the highest point of each cell (rows, columns); heights begin with -inf."""
    left, top, across, down = lattice
    rows, columns = heights.shape
    for n in range(len(x)):
        column, row = np.floor((x[n] - left) * across), np.floor((top - y[n]) * down)
        if 0 <= column < columns and 0 <= row < rows and z[n] > heights[int(row), int(column)]:
            heights[int(row), int(column)] = z[n]
            held[int(row), int(column)] = values[n]
