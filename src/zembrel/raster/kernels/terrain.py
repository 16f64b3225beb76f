"""Gradients of a surface and what is made of them, row by row.

Sources: B. K. P. Horn, "Hill shading and the reflectance map", Proceedings of the IEEE 69 (1981);
M. Abramowitz, I. A. Stegun, "Handbook of Mathematical Functions" (1964), 4.4.49, for the arc tangent.

Heights, (rows, columns) floats with a halo of one cell where the raster has it, and valid, bytes of the same
shape or (0, 0) for all; the results, (rows, columns) or (bands, rows, columns), are for the part that begins
`top` rows and `left` columns in. `axes`, (rows of the result, 4), takes differences along columns and rows to
gradients towards east and north: east = a along + b down, north = c along + d down.
"""

from __future__ import annotations

import math

import numpy as np

from zembrel.compiling import kernel, part_of_kernels

DEGREES, PERCENT, RATIO = range(3)


@part_of_kernels
def _difference(row, valid, c):  # type: ignore[no-untyped-def]
    """Change per cell in the middle of three cells of a row, by the outer two or by one and the middle; and
    whether there are two. valid: of the row, (0,) for all.
    """
    width, masked = row.size, valid.size > 0
    before = c > 0 and (not masked or valid[c - 1] != 0)
    after = c + 1 < width and (not masked or valid[c + 1] != 0)
    here = not masked or valid[c] != 0
    if before and after:
        return (np.float64(row[c + 1]) - np.float64(row[c - 1])) / 2.0, True
    if here and after:
        return np.float64(row[c + 1]) - np.float64(row[c]), True
    if here and before:
        return np.float64(row[c]) - np.float64(row[c - 1]), True
    return 0.0, False


@part_of_kernels
def _weighed(heights, valid, r, c):  # type: ignore[no-untyped-def]
    """Mean of the differences along the three rows around row r at column c, by 1 : 2 : 1, of those that are
    known; and whether any is.
    """
    total, weight, masked = 0.0, 0.0, valid.size > 0
    for step in range(-1, 2):
        y = r + step
        if 0 <= y < heights.shape[0]:
            found, known = _difference(heights[y], valid[y] if masked else valid[:0, 0], c)
            if known:
                share = 2.0 if step == 0 else 1.0
                total += share * found
                weight += share
    return (total / weight if weight > 0.0 else 0.0), weight > 0.0


@kernel
def gradients(heights, valid, top, left, axes, east, north, known):  # type: ignore[no-untyped-def]
    """Rise towards east and north, and where it is known: a cell needs a valid neighbour along each axis."""
    masked = valid.size > 0
    rows, columns = east.shape
    for r in range(rows):
        y = r + top
        inner = 0 < y < heights.shape[0] - 1
        first, last = (max(0, 1 - left), min(columns, heights.shape[1] - 1 - left)) if inner else (0, 0)
        if last > first:
            around = heights[y - 1], heights[y], heights[y + 1]
            _inside(around, first + left, axes[r], east[r, first:last], north[r, first:last])
            known[r, first:last] = 1
        for k in range(first):
            _alone(heights, valid, (y, k + left), axes[r], east[r, k:], north[r, k:], known[r, k:])
        for k in range(last, columns):
            _alone(heights, valid, (y, k + left), axes[r], east[r, k:], north[r, k:], known[r, k:])
        if masked:
            for k in range(first, last):
                if _touches(valid, y, k + left):
                    _alone(heights, valid, (y, k + left), axes[r], east[r, k:], north[r, k:], known[r, k:])


@part_of_kernels
def _alone(heights, valid, place, axis, east, north, known):  # type: ignore[no-untyped-def]
    """The gradient of one cell at an edge or beside a void, into the first of each array."""
    y, x = place
    known[0], east[0], north[0] = 0, 0.0, 0.0
    if valid.size == 0 or valid[y, x]:
        along, one = _weighed(heights, valid, y, x)
        down, other = _weighed(heights.T, valid.T, x, y)
        if one and other:
            east[0], north[0] = axis[0] * along + axis[1] * down, axis[2] * along + axis[3] * down
            known[0] = 1


@part_of_kernels
def _inside(around, x, axis, east, north):  # type: ignore[no-untyped-def]
    """Gradients of cells from column x on whose neighbours are all there, from three rows."""
    n = east.size
    a, b, c, d = axis[0], axis[1], axis[2], axis[3]
    nw, above, ne = around[0][x - 1 : x - 1 + n], around[0][x : x + n], around[0][x + 1 : x + 1 + n]
    west, right = around[1][x - 1 : x - 1 + n], around[1][x + 1 : x + 1 + n]
    sw, below, se = around[2][x - 1 : x - 1 + n], around[2][x : x + n], around[2][x + 1 : x + 1 + n]
    for k in range(n):
        upper, lower = np.float64(ne[k]) - np.float64(nw[k]), np.float64(se[k]) - np.float64(sw[k])
        along = (upper + 2.0 * (np.float64(right[k]) - np.float64(west[k])) + lower) / 8.0
        before, after = np.float64(sw[k]) - np.float64(nw[k]), np.float64(se[k]) - np.float64(ne[k])
        down = (before + 2.0 * (np.float64(below[k]) - np.float64(above[k])) + after) / 8.0
        east[k], north[k] = a * along + b * down, c * along + d * down


@part_of_kernels
def _touches(valid, y, x):  # type: ignore[no-untyped-def]
    """Whether one of the 3 x 3 cells around (y, x), all of which exist, is invalid."""
    known = True
    for j in range(-1, 2):
        known = known and valid[y + j, x - 1] and valid[y + j, x] and valid[y + j, x + 1]
    return not known


@part_of_kernels
def arc_tangent(x):  # type: ignore[no-untyped-def]
    """Of x >= 0, in radians to 2e-8, without a branch, so that many are made at once."""
    steep = x > 1.0
    t = 1.0 / x if steep else x
    z = t * t
    p = ((0.0028662257 * z - 0.0161657367) * z + 0.0429096138) * z - 0.0752896400
    p = (((p * z + 0.1065626393) * z - 0.1420889944) * z + 0.1999355085) * z - 0.3333314528
    angle = t + t * z * p
    return math.pi / 2 - angle if steep else angle


@kernel
def slopes(east, north, way, out):  # type: ignore[no-untyped-def]
    """Steepest rise, as DEGREES, PERCENT or RATIO."""
    share = 180.0 / math.pi if way == DEGREES else (100.0 if way == PERCENT else 1.0)
    for r in range(out.shape[0]):
        x, y, row = east[r], north[r], out[r]
        if way == DEGREES:
            for c in range(row.size):
                row[c] = share * arc_tangent(math.sqrt(x[c] * x[c] + y[c] * y[c]))
        else:
            for c in range(row.size):
                row[c] = share * math.sqrt(x[c] * x[c] + y[c] * y[c])


@kernel
def aspects(east, north, turn, flat, out, ok):  # type: ignore[no-untyped-def]
    """Where the surface faces: degrees clockwise from grid north, less `turn` (rows, columns) or (0, 0).

    flat: for cells that face nowhere, NaN to make them invalid; ok: bytes, cleared there.
    """
    for r in range(out.shape[0]):
        x, y, row = east[r], north[r], out[r]
        for c in range(row.size):
            row[c] = _facing(x[c], y[c], turn[r, c] if turn.size > 0 else 0.0)
        for c in range(row.size):
            if x[c] == 0.0 and y[c] == 0.0:
                row[c] = flat
                if flat != flat:
                    ok[r, c] = 0


@part_of_kernels
def _facing(east, north, turn):  # type: ignore[no-untyped-def]
    """Degrees clockwise from north, from 0 to less than 360, of the way down."""
    across, along = abs(east), abs(north)
    flatter = along < across
    part = (along if flatter else across) / max(across if flatter else along, 1e-300)
    angle = arc_tangent(part) * (180.0 / math.pi)
    angle = 90.0 - angle if flatter else angle
    angle = 180.0 - angle if north > 0.0 else angle
    angle = (360.0 - angle if east > 0.0 else angle) - turn
    angle = angle + 360.0 if angle < 0.0 else angle
    return 0.0 if angle >= 359.999985 else angle  # which 32 bits round to 360


@kernel
def shades(east, north, suns, lit, out):  # type: ignore[no-untyped-def]
    """Light on a matt surface, 0 to 255, the mean over `suns`.

    suns: (n, 3) how far the light comes from east, north and above, all 0 for one that is below the horizon;
    lit: (n, rows, columns) the share of each that no other cell hides, or (0, 0, 0).
    """
    share = 255.0 / len(suns)
    total = np.empty(out.shape[1])
    for r in range(out.shape[0]):
        x, y, row = east[r], north[r], out[r]
        total[:] = 0.0
        for n in range(len(suns)):
            a, b, above = suns[n, 0], suns[n, 1], suns[n, 2]
            if lit.size > 0:
                seen = lit[n, r]
                for c in range(row.size):
                    bright = above - x[c] * a - y[c] * b
                    total[c] += seen[c] * (bright if bright > 0.0 else 0.0)
            else:
                for c in range(row.size):
                    bright = above - x[c] * a - y[c] * b
                    total[c] += bright if bright > 0.0 else 0.0
        for c in range(row.size):
            row[c] = share * total[c] / math.sqrt(1.0 + x[c] * x[c] + y[c] * y[c])
