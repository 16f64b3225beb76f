"""Sampling at free positions: nearest, bilinear, any widened kernel, and the most frequent value.

Common arguments: u, v (rows, columns) source positions along x and y, NaN for nowhere; scale
(2, patch rows, patch columns) source cells per result cell along x and y for patches of `side`
cells, the first of which begins `lead_r` rows and `lead_c` columns before the result; need, whole,
low, high, out and ok as in `resample.weighted`.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from zembrel.raster.kernels.weights import taps


@njit(nogil=True, cache=True)
def nearest(cells, valid, u, v, out, ok):  # type: ignore[no-untyped-def]
    """The cell each position lies in; a position on an edge belongs to the cell after it."""
    bands, height, width = cells.shape
    masked, each = valid.shape[0] > 0, valid.shape[0] > 1
    for r in range(u.shape[0]):
        for c in range(u.shape[1]):
            at_x, at_y = u[r, c] + 1e-7, v[r, c] + 1e-7
            if not (0.0 <= at_x < width and 0.0 <= at_y < height):
                continue
            x, y = int(at_x), int(at_y)
            for b in range(bands):
                layer = b if each else 0
                if not masked or valid[layer, y, x]:
                    out[b, r, c] = cells[b, y, x]
                    ok[layer, r, c] = 1


@njit(nogil=True, cache=True)
def bilinear(cells, valid, u, v, need, whole, low, high, out, ok):  # type: ignore[no-untyped-def]
    """Bilinear interpolation without widening."""
    bands, height, width = cells.shape
    masked, each = valid.shape[0] > 0, valid.shape[0] > 1
    for r in range(u.shape[0]):
        for c in range(u.shape[1]):
            at_x, at_y = u[r, c] - 0.5, v[r, c] - 0.5
            if not (-1.0 < at_x < width and -1.0 < at_y < height):
                continue
            x, y = math.floor(at_x), math.floor(at_y)
            fx, fy = at_x - x, at_y - y
            if not masked and 0 <= x < width - 1 and 0 <= y < height - 1:
                for b in range(bands):
                    top = cells[b, y, x] + fx * (float(cells[b, y, x + 1]) - cells[b, y, x])
                    foot = cells[b, y + 1, x] + fx * (float(cells[b, y + 1, x + 1]) - cells[b, y + 1, x])
                    value = top + fy * (foot - top)
                    if whole:
                        value = min(max(math.floor(value + 0.5), low), high)
                    out[b, r, c] = value
                ok[0, r, c] = 1
                continue
            for b in range(bands):
                layer = b if each else 0
                value, weight = 0.0, 0.0
                for j in range(2):
                    for i in range(2):
                        w = (fx if i else 1.0 - fx) * (fy if j else 1.0 - fy)
                        inside = 0 <= x + i < width and 0 <= y + j < height
                        if w > 0.0 and inside and (not masked or valid[layer, y + j, x + i]):
                            value += w * cells[b, y + j, x + i]
                            weight += w
                if weight >= need and weight > 0.0:
                    value /= weight
                    if whole:
                        value = min(max(math.floor(value + 0.5), low), high)
                    out[b, r, c] = value
                    ok[layer, r, c] = 1


@njit(nogil=True, cache=True)
def weighted(cells, valid, u, v, code, radius, scale, side, lead_r, lead_c, need, whole, low, high, out, ok):  # type: ignore[no-untyped-def]
    """Any kernel of `weights`, widened where cells shrink."""
    bands, height, width = cells.shape
    masked, each = valid.shape[0] > 0, valid.shape[0] > 1
    most = math.ceil(2 * radius * max(scale.max(), 1.0)) + 3
    weights_x, weights_y = np.empty(most), np.empty(most)
    for r in range(u.shape[0]):
        patch_r = (r + lead_r) // side
        for c in range(u.shape[1]):
            if not (0.0 <= u[r, c] + 1.0 <= width + 2.0 and 0.0 <= v[r, c] + 1.0 <= height + 2.0):
                continue
            patch_c = (c + lead_c) // side
            x0, nx = taps(code, radius, u[r, c], scale[0, patch_r, patch_c], weights_x)
            y0, ny = taps(code, radius, v[r, c], scale[1, patch_r, patch_c], weights_y)
            full = weights_x[:nx].sum() * weights_y[:ny].sum()
            for b in range(bands):
                layer = b if each else 0
                value, weight = 0.0, 0.0
                for j in range(max(-y0, 0), min(ny, height - y0)):
                    for i in range(max(-x0, 0), min(nx, width - x0)):
                        if not masked or valid[layer, y0 + j, x0 + i]:
                            w = weights_x[i] * weights_y[j]
                            value += w * cells[b, y0 + j, x0 + i]
                            weight += w
                if weight >= need * full and weight > 0.0:
                    value /= weight
                    if whole:
                        value = min(max(math.floor(value + 0.5), low), high)
                    out[b, r, c] = value
                    ok[layer, r, c] = 1


@njit(nogil=True, cache=True)
def mode(cells, valid, u, v, scale, side, lead_r, lead_c, need, out, ok):  # type: ignore[no-untyped-def]
    """The most frequent value of the cells whose middle lies in the footprint; ties: the smallest."""
    bands, height, width = cells.shape
    masked, each = valid.shape[0] > 0, valid.shape[0] > 1
    most = int(math.ceil(max(scale[0].max(), 1.0)) + 1) * int(math.ceil(max(scale[1].max(), 1.0)) + 1)
    found = np.empty(most, cells.dtype)
    for r in range(u.shape[0]):
        patch_r = (r + lead_r) // side
        for c in range(u.shape[1]):
            if not (0.0 <= u[r, c] + 1e-7 < width and 0.0 <= v[r, c] + 1e-7 < height):
                continue
            patch_c = (c + lead_c) // side
            half_x, half_y = 0.5 * scale[0, patch_r, patch_c], 0.5 * scale[1, patch_r, patch_c]
            x0, x1 = _middles(u[r, c], half_x)
            y0, y1 = _middles(v[r, c], half_y)
            all_cells = (x1 - x0 + 1) * (y1 - y0 + 1)
            for b in range(bands):
                layer = b if each else 0
                n = 0
                for y in range(max(y0, 0), min(y1 + 1, height)):
                    for x in range(max(x0, 0), min(x1 + 1, width)):
                        if not masked or valid[layer, y, x]:
                            found[n] = cells[b, y, x]
                            n += 1
                if n > 0 and n >= need * all_cells:
                    out[b, r, c] = _most_frequent(found[:n])
                    ok[layer, r, c] = 1


@njit(nogil=True, cache=True)
def _middles(at, half):  # type: ignore[no-untyped-def]
    """First and last cell whose middle lies in [at - half, at + half); at least the one `at` is in."""
    first, last = math.ceil(at - half - 0.5 - 1e-7), math.ceil(at + half - 0.5 - 1e-7) - 1
    if last < first:
        first = last = math.floor(at + 1e-7)
    return first, last


@njit(nogil=True, cache=True)
def _most_frequent(values):  # type: ignore[no-untyped-def]
    values.sort()
    best, longest, run = values[0], 0, 0
    for i in range(values.size):
        run = run + 1 if i > 0 and values[i] == values[i - 1] else 1
        if run > longest:
            best, longest = values[i], run
    return best
