"""Cast shadows: how much of the sun's disc stands above the surface that lies towards it."""

from __future__ import annotations

import math

import numpy as np

from zembrel.compiling import kernel, part_of_kernels

_SIDE = 16  # cells of a square whose highest is known


@kernel
def sunlit(heights, valid, top, left, highest, ray, ends, out):  # type: ignore[no-untyped-def]
    """The share of the disc that no cell hides, 0 to 1.

    heights, (rows, columns), valid, bytes or (0, 0) for all, and out, the part from (top, left) on; highest:
    what `tops` makes of them; ray: rows and columns of a step towards the sun, the larger of them 1, its
    length in units of the heights, and how many are taken at most; ends: tangents of the altitudes of the
    lower and the upper edge of the disc. Between two cells the surface is straight; invalid cells hide
    nothing. Squares of cells that are all too low are passed in one step.
    """
    down, across, length, steps = ray
    lower, upper = ends
    summit = highest.max()
    for r in range(out.shape[0]):
        for c in range(out.shape[1]):
            y, x = r + top, c + left
            if valid.size > 0 and not valid[y, x]:
                continue
            own, seen, n = np.float64(heights[y, x]), lower, 1
            while n <= steps and seen < upper and summit - own > seen * n * length:
                last = n + _SIDE - 1
                ends_y, ends_x = (y + n * down, y + last * down), (x + n * across, x + last * across)
                nearest = n if seen >= 0.0 else last  # of the lines to the sun the one that rises least
                if _highest(highest, ends_y, ends_x) - own <= seen * nearest * length:
                    n = last + 1
                    continue
                for n in range(n, min(last, int(steps)) + 1):  # noqa: B020
                    height = _between(heights, valid, y + n * down, x + n * across)
                    if height == height:
                        seen = max(seen, (height - own) / (n * length))
                n += 1
            out[r, c] = min(1.0, max(0.0, (upper - seen) / (upper - lower)))


@kernel
def tops(heights, valid):  # type: ignore[no-untyped-def]
    """The highest valid cell of each square, -inf for none."""
    rows, columns = heights.shape
    highest = np.full((rows // _SIDE + 1, columns // _SIDE + 1), -math.inf)
    for y in range(rows):
        for x in range(columns):
            if valid.size == 0 or valid[y, x]:
                square = y // _SIDE, x // _SIDE
                highest[square] = max(highest[square], np.float64(heights[y, x]))
    return highest


@part_of_kernels
def _highest(squares, ends_y, ends_x):  # type: ignore[no-untyped-def]
    """The highest of the squares that a part of a ray between two places may touch."""
    rows, columns = squares.shape
    first_r = max(0, math.floor(min(ends_y[0], ends_y[1])) // _SIDE)
    last_r = min(rows - 1, math.ceil(max(ends_y[0], ends_y[1])) // _SIDE)
    first_c = max(0, math.floor(min(ends_x[0], ends_x[1])) // _SIDE)
    last_c = min(columns - 1, math.ceil(max(ends_x[0], ends_x[1])) // _SIDE)
    found = -math.inf
    for row in range(first_r, last_r + 1):
        for column in range(first_c, last_c + 1):
            found = max(found, squares[row, column])
    return found


@part_of_kernels
def _between(heights, valid, y, x):  # type: ignore[no-untyped-def]
    """The height where one coordinate is whole: NaN on invalid cells and beyond the raster."""
    rows, columns = heights.shape
    row, column = math.floor(y + 1e-9), math.floor(x + 1e-9)
    part = max(0.0, y - row) + max(0.0, x - column)  # one of them is nought
    next_row, next_column = row, column
    if part < 1e-9:
        part = 0.0
    elif y - row > x - column:
        next_row += 1
    else:
        next_column += 1
    if row < 0 or column < 0 or next_row >= rows or next_column >= columns:
        return math.nan
    masked = valid.size > 0
    here = not masked or valid[row, column] != 0
    there = not masked or valid[next_row, next_column] != 0
    if here and there:
        first = np.float64(heights[row, column])
        return first + part * (np.float64(heights[next_row, next_column]) - first)
    if here:
        return np.float64(heights[row, column])
    return np.float64(heights[next_row, next_column]) if there else math.nan
