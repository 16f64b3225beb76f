"""Separable resampling: result cells parallel to the source's."""

from __future__ import annotations

import math

import numpy as np

from zembrel.compiling import kernel
from zembrel.raster.kernels.weights import taps


@kernel
def axis_weights(code, radius, at, width, start):  # type: ignore[no-untyped-def]
    """First source cell, number of cells and their weights for each position of one axis.

    at: (n,) positions; width: source cells per result cell; start: the cell from which the first ones
    are counted. Returns (n,), (n,), (n, most).
    """
    most = math.ceil(2 * radius * max(width, 1.0)) + 3
    first, count = np.empty(at.size, np.int64), np.empty(at.size, np.int64)
    weights = np.zeros((at.size, most))
    for i in range(at.size):
        first[i], count[i] = taps(code, radius, at[i], width, weights[i])
    first -= start
    return first, count, weights


@kernel
def weighted(cells, valid, by_row, by_column, finish, sums, into):  # type: ignore[no-untyped-def]
    """Weighted means along rows, then along columns; invalid and outside cells weigh nothing.

    cells and valid as in `arguments.Sampled`; by_row, by_column: see `axis_weights`; sums: whether they are
    not divided by the weight.
    """
    (first_y, count_y, weights_y), (first_x, count_x, weights_x) = by_row, by_column
    need, whole, low, high = finish
    out, ok, _ = into
    bands, height, width = cells.shape
    masked, each = valid.shape[0] > 0, valid.shape[0] > 1
    total, mass = np.empty(width), np.empty(width)
    for r in range(out.shape[1]):
        full_y = 0.0
        for k in range(count_y[r]):
            full_y += weights_y[r, k]
        for b in range(bands):
            total[:] = 0.0
            mass[:] = 0.0
            full = 0.0
            for k in range(count_y[r]):
                y, w = first_y[r] + k, weights_y[r, k]
                if y < 0 or y >= height:
                    continue
                if masked:
                    layer = b if each else 0
                    for x in range(width):
                        if valid[layer, y, x]:
                            total[x] += w * cells[b, y, x]
                            mass[x] += w
                else:
                    for x in range(width):
                        total[x] += w * cells[b, y, x]
                    full += w
            if not masked:
                mass[:] = full
            for c in range(out.shape[2]):
                value, weight, full_x = 0.0, 0.0, 0.0
                for k in range(count_x[c]):
                    x, w = first_x[c] + k, weights_x[c, k]
                    full_x += w
                    if 0 <= x < width:
                        value += w * total[x]
                        weight += w * mass[x]
                if weight >= need * full_x * full_y and weight > 0.0:
                    if not sums:
                        value /= weight
                    if whole:
                        value = min(max(math.floor(value + 0.5), low), high)
                    out[b, r, c] = value
                    ok[b if each else 0, r, c] = 1
