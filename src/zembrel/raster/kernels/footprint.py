"""Values picked from the cells whose middle lies in a footprint: the most frequent, or that of a rank.

Arguments come in the groups of `arguments`; a rank between two values is their weighted mean.
"""

from __future__ import annotations

import math

import numpy as np

from zembrel.compiling import kernel, part_of_kernels
from zembrel.raster.kernels.ordering import ascend


@kernel
def picked(at, patches, pick, finish, into):  # type: ignore[no-untyped-def]
    """Fill out from the footprints around positions u, v."""
    cells, valid, u, v, left, top = at
    scale, side, lead_r, lead_c = patches
    out, ok, start = into
    height, width = cells.shape[1:]
    most = int(math.ceil(max(scale[0].max(), 1.0)) + 1) * int(math.ceil(max(scale[1].max(), 1.0)) + 1)
    found = np.empty(most, cells.dtype)
    for r in range(u.shape[0]):
        patch_r = (r + lead_r) // side
        for c in range(u.shape[1]):
            at_x, at_y = u[r, c] - left, v[r, c] - top
            if not (0.0 <= at_x + 1e-7 < width and 0.0 <= at_y + 1e-7 < height):
                continue
            patch_c = (c + lead_c) // side
            x0, x1 = middles(u[r, c], 0.5 * scale[0, patch_r, patch_c])
            y0, y1 = middles(v[r, c], 0.5 * scale[1, patch_r, patch_c])
            window = x0 - left, x1 - left, y0 - top, y1 - top
            _pick(cells, valid, window, pick, finish, found, out[:, start + r, c], ok[:, start + r, c])


@kernel
def picked_along_axes(at, step_x, step_y, pick, finish, into):  # type: ignore[no-untyped-def]
    """The same for parallel frames: u (columns,), v (rows,), one step along each axis."""
    cells, valid, u, v, left, top = at
    out, ok, _ = into
    most = int(math.ceil(max(step_x, 1.0)) + 1) * int(math.ceil(max(step_y, 1.0)) + 1)
    found = np.empty(most, cells.dtype)
    height, width = cells.shape[1:]
    for r in range(v.size):
        y0, y1 = middles(v[r], 0.5 * step_y)
        for c in range(u.size):
            at_x, at_y = u[c] - left, v[r] - top
            if not (0.0 <= at_x + 1e-7 < width and 0.0 <= at_y + 1e-7 < height):
                continue
            x0, x1 = middles(u[c], 0.5 * step_x)
            window = x0 - left, x1 - left, y0 - top, y1 - top
            _pick(cells, valid, window, pick, finish, found, out[:, r, c], ok[:, r, c])


@part_of_kernels
def _pick(cells, valid, window, pick, finish, found, out, ok):  # type: ignore[no-untyped-def]
    """One result cell, (bands,), from columns x0 to x1 and rows y0 to y1, both included."""
    (x0, x1, y0, y1), (what, share) = window, pick
    need, whole = finish.need, finish.whole
    bands, height, width = cells.shape
    masked, each = valid.shape[0] > 0, valid.shape[0] > 1
    all_cells = (x1 - x0 + 1) * (y1 - y0 + 1)
    for b in range(bands):
        layer, n = b if each else 0, 0
        for y in range(max(y0, 0), min(y1 + 1, height)):
            for x in range(max(x0, 0), min(x1 + 1, width)):
                if not masked or valid[layer, y, x]:
                    found[n] = cells[b, y, x]
                    n += 1
        if n > 0 and n >= need * all_cells:
            if what == 1:
                out[b] = _most_frequent(found, n)
            elif share == 0.0 or share == 1.0:
                out[b] = _extreme(found, n, share == 1.0)
            else:
                value, below, above = _ranked(found, n, share)
                if value <= below:  # as they are: doubles do not hold each whole number
                    out[b] = below
                elif value >= above:
                    out[b] = above
                else:
                    out[b] = math.floor(value + 0.5) if whole else value
            ok[layer] = 1


@kernel
def middles(at, half):  # type: ignore[no-untyped-def]
    """First and last cell whose middle lies in [at - half, at + half); at least the one `at` is in."""
    first, last = math.ceil(at - half - 0.5 - 1e-7), math.ceil(at + half - 0.5 - 1e-7) - 1
    if last < first:
        first = last = math.floor(at + 1e-7)
    return first, last


@part_of_kernels
def _extreme(values, n, highest):  # type: ignore[no-untyped-def]
    """The smallest or the largest of the first n."""
    best = values[0]
    for i in range(1, n):
        best = max(best, values[i]) if highest else min(best, values[i])
    return best


@part_of_kernels
def _ranked(values, n, share):  # type: ignore[no-untyped-def]
    """The value `share` of the way up among the first n, linear between neighbours in order; and these."""
    ascend(values, values[:0], 0, n)
    place = share * (n - 1)
    first = int(place)
    part = place - first
    below, above = values[first], values[min(first + 1, n - 1)]
    return (1.0 - part) * below + part * above, below, above


@part_of_kernels
def _most_frequent(values, n):  # type: ignore[no-untyped-def]
    """Of the first n; of equally frequent ones the smallest."""
    ascend(values, values[:0], 0, n)
    best, longest, run = values[0], 0, 0
    for i in range(n):
        run = run + 1 if i > 0 and values[i] == values[i - 1] else 1
        if run > longest:
            best, longest = values[i], run
    return best
