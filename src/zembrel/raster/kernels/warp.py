"""Sampling at free positions: nearest, bilinear, and any widened kernel.

Arguments come in the groups of `arguments`.
"""

from __future__ import annotations

import math

import numpy as np

from zembrel.compiling import kernel, part_of_kernels
from zembrel.raster.kernels.weights import taps


@kernel
def nearest(at, into):  # type: ignore[no-untyped-def]
    """The cell each position lies in; a position on an edge belongs to the cell after it."""
    cells, valid, u, v, left, top = at
    out, ok, start = into
    bands, height, width = cells.shape
    masked, each = valid.shape[0] > 0, valid.shape[0] > 1
    for r in range(u.shape[0]):
        for c in range(u.shape[1]):
            at_x, at_y = u[r, c] - left + 1e-7, v[r, c] - top + 1e-7
            if not (0.0 <= at_x < width and 0.0 <= at_y < height):
                continue
            x, y = int(at_x), int(at_y)
            for b in range(bands):
                layer = b if each else 0
                if not masked or valid[layer, y, x]:
                    out[b, start + r, c] = cells[b, y, x]
                    ok[layer, start + r, c] = 1


@kernel
def bilinear_bytes(lanes, at, finish, into):  # type: ignore[no-untyped-def]
    """Bilinear interpolation of bytes without widening, by integers, at positions of 1/4096 cell.

    lanes: (rows, columns) three bands in one number, as `in_lanes` makes them; empty for other numbers.
    """
    cells, valid, u, v, left, top = at
    out, ok, start = into
    bands, height, width = cells.shape
    columns = u.shape[1]
    at, known, mixed = np.empty(columns, np.uint32), np.empty(columns, np.uint8), np.empty(columns, np.uint64)
    part_x, part_y = np.empty(columns, np.uint32), np.empty(columns, np.uint32)
    for r in range(u.shape[0]):
        apart = 0  # cells at an edge or beside an invalid one
        for c in range(columns):
            x, y = u[r, c] - left - 0.5, v[r, c] - top - 0.5
            inside = (x >= 0.0) & (x < width - 1) & (y >= 0.0) & (y < height - 1)
            column, row = np.int32(x), np.int32(y)
            part_x[c], part_y[c] = np.int32((x - column) * 4096.0), np.int32((y - row) * 4096.0)
            at[c] = row * np.int32(width) + column if inside else 0
            known[c] = inside
            apart += not inside
        if valid.shape[0]:
            for c in range(columns):
                if known[c] and not _all_valid(valid, at[c] % width, at[c] // width):
                    known[c] = 0
                    apart += 1
        if apart < columns and lanes.size:
            _blend_lanes(lanes.ravel(), width, at, part_x, part_y, mixed)
            for b in range(bands):
                _lane(mixed, np.uint64(21 * b + 12), out[b, start + r])
        elif apart < columns:
            for b in range(bands):
                _blend(cells[b].ravel(), width, at, part_x, part_y, out[b, start + r])
        for layer in range(ok.shape[0]):
            ok[layer, start + r] = known
        if apart:
            for c in range(columns):
                if not known[c]:
                    cell, sure = out[:, start + r, c], ok[:, start + r, c]
                    cell[:] = 0
                    x, y = u[r, c] - left - 0.5, v[r, c] - top - 0.5
                    if -1.0 < x < width and -1.0 < y < height:
                        _bilinear_at_edge(cells, valid, x, y, finish, cell, sure)


@kernel
def in_lanes(cells, lanes):  # type: ignore[no-untyped-def]
    """Put three bands of bytes, (3, rows, columns), into 21 bits each of (rows, columns) numbers.

    A byte times weights that add up to 4096 stays within its lane, so one product serves three bands.
    """
    for r in range(lanes.shape[0]):
        for c in range(lanes.shape[1]):
            second, third = np.uint64(cells[1, r, c]), np.uint64(cells[2, r, c])
            lanes[r, c] = np.uint64(cells[0, r, c]) | second << np.uint64(21) | third << np.uint64(42)


@part_of_kernels
def _blend_lanes(lanes, width, at, part_x, part_y, out):  # type: ignore[no-untyped-def]
    """The four cells from `at` on, weighted by 1/4096 that add up to one, lane by lane."""
    unit, half, bits = np.uint64(4096), np.uint64(2048), np.uint64(12)
    rounding = half | half << np.uint64(21) | half << np.uint64(42)
    one, line = np.uint64(1), np.uint64(width)
    for c in range(at.size):
        first, fx, fy = np.uint64(at[c]), np.uint64(part_x[c]), np.uint64(part_y[c])
        both = (fx * fy + half) >> bits
        right, below = fx - both, fy - both
        upper = (unit - fx - below) * lanes[first] + right * lanes[first + one]
        lower = below * lanes[first + line] + both * lanes[first + line + one]
        out[c] = upper + lower + rounding


@part_of_kernels
def _lane(mixed, shift, out):  # type: ignore[no-untyped-def]
    """One band of what `_blend_lanes` mixed."""
    for c in range(mixed.size):
        out[c] = mixed[c] >> shift


@part_of_kernels
def _blend(band, width, at, part_x, part_y, out):  # type: ignore[no-untyped-def]
    """One row of one band: the four cells from `at` on, weighted by 1/4096 along each axis."""
    unit, one, line = np.uint32(4096), np.uint64(1), np.uint64(width)
    for c in range(at.size):
        first, fx, fy = np.uint64(at[c]), part_x[c], part_y[c]
        upper = (unit - fx) * np.uint32(band[first]) + fx * np.uint32(band[first + one])
        lower = (unit - fx) * np.uint32(band[first + line]) + fx * np.uint32(band[first + line + one])
        out[c] = ((unit - fy) * upper + fy * lower + np.uint32(1 << 23)) >> np.uint32(24)


@part_of_kernels
def _bilinear_at_edge(cells, valid, at_x, at_y, finish, out, ok):  # type: ignore[no-untyped-def]
    """Bilinear interpolation of one cell, (bands,), from the valid ones of the four around it."""
    need, whole, low, high = finish
    for b in range(cells.shape[0]):
        layer = b if ok.size > 1 else 0
        value, weight = _four(cells[b], valid, layer, at_x, at_y)
        if weight >= need and weight > 0.0:
            value /= weight
            out[b] = min(max(math.floor(value + 0.5), low), high) if whole else value
            ok[layer] = 1


@kernel
def bilinear(at, finish, into):  # type: ignore[no-untyped-def]
    """Bilinear interpolation without widening."""
    cells, valid, u, v, left, top = at
    out, ok, start = into
    whole = finish.whole
    bands, height, width = cells.shape
    masked = valid.shape[0] > 0
    for r in range(u.shape[0]):
        for c in range(u.shape[1]):
            at_x, at_y = u[r, c] - left - 0.5, v[r, c] - top - 0.5
            if not (-1.0 < at_x < width and -1.0 < at_y < height):
                continue
            inside = 0.0 <= at_x < width - 1 and 0.0 <= at_y < height - 1
            if inside and (not masked or _all_valid(valid, int(at_x), int(at_y))):
                x, y = int(at_x), int(at_y)
                fx, fy = at_x - x, at_y - y
                for b in range(bands):
                    upper = cells[b, y, x] + fx * (float(cells[b, y, x + 1]) - cells[b, y, x])
                    lower = cells[b, y + 1, x] + fx * (float(cells[b, y + 1, x + 1]) - cells[b, y + 1, x])
                    value = upper + fy * (lower - upper)
                    out[b, start + r, c] = math.floor(value + 0.5) if whole else value
                for layer in range(ok.shape[0]):
                    ok[layer, start + r, c] = 1
                continue
            cell, known = out[:, start + r, c], ok[:, start + r, c]
            _bilinear_at_edge(cells, valid, at_x, at_y, finish, cell, known)


@part_of_kernels
def _all_valid(valid, x, y):  # type: ignore[no-untyped-def]
    """Whether the 2 x 2 cells from (y, x) are valid in every layer."""
    for layer in range(valid.shape[0]):
        if not (
            valid[layer, y, x]
            and valid[layer, y, x + 1]
            and valid[layer, y + 1, x]
            and valid[layer, y + 1, x + 1]
        ):
            return False
    return True


@part_of_kernels
def _four(band, valid, layer, at_x, at_y):  # type: ignore[no-untyped-def]
    """Weighted sum of the valid ones of the 2 x 2 cells around a position, and their weight."""
    height, width = band.shape
    x, y = math.floor(at_x), math.floor(at_y)
    fx, fy = at_x - x, at_y - y
    value, weight = 0.0, 0.0
    for j in range(2):
        for i in range(2):
            w = (fx if i else 1.0 - fx) * (fy if j else 1.0 - fy)
            inside = 0 <= x + i < width and 0 <= y + j < height
            if w > 0.0 and inside and (valid.shape[0] == 0 or valid[layer, y + j, x + i]):
                value += w * band[y + j, x + i]
                weight += w
    return value, weight


@kernel
def weighted(at, code, radius, patches, finish, into):  # type: ignore[no-untyped-def]
    """Any kernel of `weights`, widened where cells shrink."""
    cells, valid, u, v, left, top = at
    scale, side, lead_r, lead_c = patches
    need, whole, low, high = finish
    out, ok, start = into
    bands, height, width = cells.shape
    masked, each = valid.shape[0] > 0, valid.shape[0] > 1
    most = math.ceil(2 * radius * max(scale.max(), 1.0)) + 3
    weights_x, weights_y = np.empty(most), np.empty(most)
    for r in range(u.shape[0]):
        patch_r = (r + lead_r) // side
        for c in range(u.shape[1]):
            at_x, at_y = u[r, c] - left, v[r, c] - top
            if not (0.0 <= at_x + 1.0 <= width + 2.0 and 0.0 <= at_y + 1.0 <= height + 2.0):
                continue
            patch_c = (c + lead_c) // side
            x0, nx = taps(code, radius, u[r, c], scale[0, patch_r, patch_c], weights_x)
            y0, ny = taps(code, radius, v[r, c], scale[1, patch_r, patch_c], weights_y)
            x0, y0 = x0 - left, y0 - top
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
                    out[b, start + r, c] = value
                    ok[layer, start + r, c] = 1
