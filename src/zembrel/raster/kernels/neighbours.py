"""How a surface bends and how uneven it is, and where a cell stands among others, from the cells around it.

Source: I. S. Evans, "General geomorphometry", in Spatial Analysis in Geomorphology (1972), for curvature;
others stand with their kernels. Arguments are those of `terrain`.
"""

from __future__ import annotations

import math

import numpy as np

from zembrel.compiling import kernel, part_of_kernels

PROFILE, PLAN, MEAN = range(3)
ROUGHNESS, RUGGEDNESS = range(2)


@part_of_kernels
def _window(heights, valid, y, x, window):  # type: ignore[no-untyped-def]
    """The 3 x 3 heights around (y, x), above the middle; those that are missing continue the opposite ones
    through the middle, or are level with it where that is missing too. Returns how many are there.
    """
    middle, count = np.float64(heights[y, x]), 0
    here = np.zeros((3, 3), np.uint8)
    for j in range(3):
        for i in range(3):
            yy, xx = y + j - 1, x + i - 1
            inside = 0 <= yy < heights.shape[0] and 0 <= xx < heights.shape[1]
            window[j, i] = 0.0
            if inside and (valid.size == 0 or valid[yy, xx]):
                window[j, i] = np.float64(heights[yy, xx]) - middle
                here[j, i] = 1
                count += 1
    for j in range(3):
        for i in range(3):
            if not here[j, i] and here[2 - j, 2 - i]:
                window[j, i] = -window[2 - j, 2 - i]
    return count


@kernel
def curvatures(heights, valid, top, left, axes, metres, what, out):  # type: ignore[no-untyped-def]
    """PROFILE, PLAN or MEAN curvature, per unit of the ground, positive where the surface bulges; 0 for the
    first two where it is level. metres: of a unit of the heights, which `axes` have in them once.
    """
    w = np.zeros((3, 3))
    for r in range(out.shape[0]):
        a, b, c, d = axes[r, 0], axes[r, 1], axes[r, 2], axes[r, 3]
        for k in range(out.shape[1]):
            out[r, k] = 0.0
            if valid.size > 0 and not valid[r + top, k + left]:
                continue
            _window(heights, valid, r + top, k + left, w)
            along, down = (w[1, 2] - w[1, 0]) / 2.0, (w[2, 1] - w[0, 1]) / 2.0
            cc, rr = (w[1, 2] + w[1, 0]) / metres, (w[2, 1] + w[0, 1]) / metres
            cr = (w[2, 2] - w[2, 0] - w[0, 2] + w[0, 0]) / (4.0 * metres)
            p, q = a * along + b * down, c * along + d * down
            xx = a * a * cc + 2.0 * a * b * cr + b * b * rr
            xy = a * c * cc + (a * d + b * c) * cr + b * d * rr
            yy = c * c * cc + 2.0 * c * d * cr + d * d * rr
            steep = p * p + q * q
            if what == MEAN:
                above = (1.0 + q * q) * xx - 2.0 * p * q * xy + (1.0 + p * p) * yy
                out[r, k] = -above / (2.0 * (1.0 + steep) ** 1.5)
            elif steep > 0.0 and what == PROFILE:
                out[r, k] = -(p * p * xx + 2.0 * p * q * xy + q * q * yy) / (steep * (1.0 + steep) ** 1.5)
            elif steep > 0.0:
                out[r, k] = -(q * q * xx - 2.0 * p * q * xy + p * p * yy) / steep**1.5


@kernel
def unevenness(heights, valid, top, left, what, out):  # type: ignore[no-untyped-def]
    """ROUGHNESS or RUGGEDNESS of the 3 x 3 cells around each, in units of the heights.

    Roughness is the largest less the smallest height (M. F. J. Wilson et al., Marine Geodesy 30, 2007);
    ruggedness the root of the summed squares of the differences to the eight neighbours (S. J. Riley et al.,
    Intermountain Journal of Sciences 5, 1999), scaled to eight where some are missing.
    """
    for r in range(out.shape[0]):
        y = r + top
        for k in range(out.shape[1]):
            x = k + left
            middle = np.float64(heights[y, x])
            low, high, squares, count = 0.0, 0.0, 0.0, 0
            for yy in range(max(0, y - 1), min(heights.shape[0], y + 2)):
                for xx in range(max(0, x - 1), min(heights.shape[1], x + 2)):
                    if valid.size == 0 or valid[yy, xx]:
                        off = np.float64(heights[yy, xx]) - middle
                        low, high = min(low, off), max(high, off)
                        squares += off * off
                        count += 1
            if what == ROUGHNESS:
                out[r, k] = high - low
            else:
                out[r, k] = math.sqrt(squares * 8.0 / max(count - 1, 1))


@part_of_kernels
def _plus(total, value):  # type: ignore[no-untyped-def]
    """A sum of two doubles, and what it lacks of the true one (D. E. Knuth, TAOCP 2, 4.2.2)."""
    whole = total + value
    back = whole - total
    return whole, (total - (whole - back)) + (value - back)


@kernel
def positions(heights, valid, top, left, widths, out):  # type: ignore[no-untyped-def]
    """Height above the mean of the valid cells within a reach, the cell itself among them.

    Sums are pairs of doubles, so exact that it does not show where they begin. widths: (2 n + 1,) how many
    cells the reach goes to each side, n rows above to n below.
    """
    reach = len(widths) // 2
    height, width = heights.shape
    rows, columns = out.shape
    sums, rests, counts = np.zeros(columns), np.zeros(columns), np.zeros(columns, np.int64)
    running, lacking = np.zeros((height, width + 1)), np.zeros((height, width + 1))
    known = np.zeros((height, width + 1), np.int64)
    for y in range(height):
        for x in range(width):
            here = (valid.size == 0 or valid[y, x] != 0) and math.isfinite(heights[y, x])
            running[y, x + 1], rest = _plus(running[y, x], np.float64(heights[y, x]) if here else 0.0)
            lacking[y, x + 1] = lacking[y, x] + rest
            known[y, x + 1] = known[y, x] + here
    for r in range(rows):
        sums[:], rests[:], counts[:] = 0.0, 0.0, 0
        for step in range(-reach, reach + 1):
            y, half = r + top + step, widths[step + reach]
            if not 0 <= y < height:
                continue
            for k in range(columns):
                first, last = max(0, k + left - half), min(width, k + left + half + 1)
                part, rest = _plus(running[y, last], -running[y, first])
                sums[k], more = _plus(sums[k], part)
                rests[k] += rest + more + (lacking[y, last] - lacking[y, first])
                counts[k] += known[y, last] - known[y, first]
        for k in range(columns):
            mean = (sums[k] + rests[k]) / np.float64(max(counts[k], 1))
            out[r, k] = np.float64(heights[r + top, k + left]) - mean


@kernel
def softened(z, passes):  # type: ignore[no-untyped-def]
    """z (rows, columns) with each value the binomial mean of those around it, 1 2 1 both ways; NaN stays."""
    for _ in range(passes):
        new = np.empty_like(z)
        for r in range(z.shape[0]):
            for c in range(z.shape[1]):
                total, weight = 0.0, 0.0
                for dr in range(-1, 2):
                    for dc in range(-1, 2):
                        y, x = r + dr, c + dc
                        if 0 <= y < z.shape[0] and 0 <= x < z.shape[1] and not math.isnan(z[y, x]):
                            share = (2.0 - abs(dr)) * (2.0 - abs(dc))
                            total, weight = total + share * z[y, x], weight + share
                new[r, c] = np.nan if math.isnan(z[r, c]) else total / weight
        z = new
    return z
