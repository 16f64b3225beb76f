"""Four cells become one: the compiled part of `raster.halving`."""

from __future__ import annotations

import math

import numpy as np

from zembrel.compiling import kernel


@kernel
def mean(cells, valid, whole, out, ok):  # type: ignore[no-untyped-def]
    bands, height, width = cells.shape
    masked = valid.shape[0] > 0
    for b in range(bands):
        layer = min(b, valid.shape[0] - 1)
        for r in range(out.shape[1]):
            for c in range(out.shape[2]):
                total, count = 0.0, 0
                for y in range(2 * r, min(2 * r + 2, height)):
                    for x in range(2 * c, min(2 * c + 2, width)):
                        if not masked or valid[layer, y, x]:
                            total += cells[b, y, x]
                            count += 1
                if count:
                    value = total / count
                    out[b, r, c] = math.floor(value + 0.5) if whole else value
                    if masked:
                        ok[layer, r, c] = 1


@kernel
def mean_of_bytes(cells, valid, out, ok):  # type: ignore[no-untyped-def]
    """The case that matters most: bytes, an even number of rows and columns."""
    masked = valid.shape[0] > 0
    for b in range(cells.shape[0]):
        layer = min(b, valid.shape[0] - 1)
        for r in range(out.shape[1]):
            upper, lower, row = cells[b, 2 * r], cells[b, 2 * r + 1], out[b, r]
            for c in range(row.size):
                total = np.int32(upper[2 * c]) + np.int32(upper[2 * c + 1])
                total += np.int32(lower[2 * c]) + np.int32(lower[2 * c + 1])
                row[c] = (total + np.int32(2)) >> np.int32(2)
            if not masked:
                continue
            over, under, known = valid[layer, 2 * r], valid[layer, 2 * r + 1], ok[layer, r]
            for c in range(row.size):
                left, right = 2 * c, 2 * c + 1
                count = over[left] + over[right] + under[left] + under[right]
                known[c] = count > 0
                if 0 < count < 4:
                    total = np.int32(over[left]) * upper[left] + np.int32(over[right]) * upper[right]
                    total += np.int32(under[left]) * lower[left] + np.int32(under[right]) * lower[right]
                    row[c] = (2 * total + count) // (2 * count)


@kernel
def mode(cells, valid, out, ok):  # type: ignore[no-untyped-def]
    """The most frequent of four; of equals the one met first."""
    bands, height, width = cells.shape
    found = np.empty(4, cells.dtype)
    for b in range(bands):
        for r in range(out.shape[1]):
            for c in range(out.shape[2]):
                n = 0
                for y in range(2 * r, min(2 * r + 2, height)):
                    for x in range(2 * c, min(2 * c + 2, width)):
                        if valid.shape[0] == 0 or valid[min(b, valid.shape[0] - 1), y, x]:
                            found[n] = cells[b, y, x]
                            n += 1
                best = 0
                for i in range(n):
                    times = 0
                    for j in range(n):
                        times += found[i] == found[j]
                    if times > best:
                        best = times
                        out[b, r, c] = found[i]
                if n and ok.shape[0]:
                    ok[min(b, ok.shape[0] - 1), r, c] = 1
