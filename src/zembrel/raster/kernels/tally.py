"""Sums over what lies in zones and cells.

Edges are (m, 4) column, row, column, row in cells of a frame, as for `scan`; top and left are the block's.
"""

from __future__ import annotations

import math

import numpy as np

from zembrel.compiling import kernel, part_of_kernels
from zembrel.raster.kernels.ordering import ascend
from zembrel.raster.kernels.scan import _spread

WEIGHT, SUM, SQUARES, LOW, HIGH = range(5)


@part_of_kernels
def _entered(edges, box, top, left, shape, shares):  # type: ignore[no-untyped-def]
    """Enter into shares (rows, columns + 1) what the edges of a zone add to those of the cells from there on.

    Returns the rows and columns of its box in the block.
    """
    rows, columns = shape
    first_c, last_c = max(math.floor(box[0]) - left, 0), min(math.ceil(box[2]) - left, columns)
    first_r, last_r = max(math.floor(box[1]) - top, 0), min(math.ceil(box[3]) - top, rows)
    if first_c >= last_c or first_r >= last_r:
        return 0, 0, 0, 0
    window = shares[:, : last_c - first_c + 1]
    for k in range(edges.shape[0]):
        x0, y0 = edges[k, 0] - left - first_c, edges[k, 1] - top
        x1, y1 = edges[k, 2] - left - first_c, edges[k, 3] - top
        if y0 == y1:
            continue
        sign = 1.0
        if y0 > y1:
            x0, y0, x1, y1, sign = x1, y1, x0, y0, -1.0
        slope = (x1 - x0) / (y1 - y0)
        for r in range(max(math.floor(y0), first_r), min(math.ceil(y1), last_r)):
            low, high = max(y0, r), min(y1, r + 1)
            if high > low:
                ends = x0 + (low - y0) * slope, x0 + (high - y0) * slope
                _spread(ends[0], ends[1], sign * (high - low), window[r])
    return first_r, last_r, first_c, last_c


@kernel
def in_zones(values, known, edges, starts, boxes, top, left, out):  # type: ignore[no-untyped-def]
    """Add up the cells of values (rows, columns) in each zone, those on its edge by the share that is inside.

    known: which are, (rows, columns) or (0, 0) for all; starts (n + 1,): where the edges of each zone begin;
    boxes (n, 4): its columns and rows; out (n, 5), all new: shares, sums, squares of differences from the
    mean (D. H. D. West, "Updating mean and variance estimates", Communications of the ACM 22, 1979), lowest
    and highest.
    """
    rows, columns = values.shape
    masked = known.size > 0
    shares = np.zeros((rows, columns + 1))
    for n in range(starts.size - 1):
        own = edges[starts[n] : starts[n + 1]]
        first_r, last_r, first_c, last_c = _entered(own, boxes[n], top, left, (rows, columns), shares)
        if first_c >= last_c:
            continue
        window = shares[:, : last_c - first_c + 1]
        weight, total, squares, least, most = out[n]
        mean = 0.0
        for r in range(first_r, last_r):
            share = 0.0
            for c in range(last_c - first_c):
                share += window[r, c]
                window[r, c] = 0.0
                if share > 1e-12 and (not masked or known[r, first_c + c]):
                    part = min(share, 1.0)
                    value = np.float64(values[r, first_c + c])
                    weight += part
                    total += part * value
                    off = value - mean
                    mean += off * part / weight
                    squares += part * off * (value - mean)
                    if value < least:
                        least = value
                    if value > most:
                        most = value
            window[r, last_c - first_c] = 0.0
        out[n, WEIGHT], out[n, SUM], out[n, SQUARES], out[n, LOW], out[n, HIGH] = (
            weight,
            total,
            squares,
            least,
            most,
        )


@kernel
def values_in_zones(values, known, edges, starts, boxes, top, left, held, weights, ends):  # type: ignore[no-untyped-def]
    """Gather the values of each zone, each once and in their order, and the cells that have them.

    As `in_zones`; held, weights: room for all of them, zone after zone; ends (n,): where those of each end.
    """
    rows, columns = values.shape
    masked = known.size > 0
    shares = np.zeros((rows, columns + 1))
    begin = 0
    for n in range(starts.size - 1):
        own = edges[starts[n] : starts[n + 1]]
        first_r, last_r, first_c, last_c = _entered(own, boxes[n], top, left, (rows, columns), shares)
        end = begin
        for r in range(first_r, last_r):
            share = 0.0
            for c in range(last_c - first_c):
                share += shares[r, c]
                shares[r, c] = 0.0
                if share > 1e-12 and (not masked or known[r, first_c + c]):
                    held[end], weights[end] = values[r, first_c + c], min(share, 1.0)
                    end += 1
            shares[r, last_c - first_c] = 0.0
        ascend(held, weights, begin, end)
        last, end = end, begin
        for k in range(begin, last):
            if end > begin and held[end - 1] == held[k]:
                weights[end - 1] += weights[k]
            else:
                held[end], weights[end] = held[k], weights[k]
                end += 1
        begin = ends[n] = end


@kernel
def room_of_zones(boxes, top, left, rows, columns):  # type: ignore[no-untyped-def]
    """Cells in the boxes of all zones (n, 4) in a block."""
    total = 0
    for n in range(boxes.shape[0]):
        across = min(math.ceil(boxes[n, 2]) - left, columns) - max(math.floor(boxes[n, 0]) - left, 0)
        down = min(math.ceil(boxes[n, 3]) - top, rows) - max(math.floor(boxes[n, 1]) - top, 0)
        total += max(across, 0) * max(down, 0)
    return total


@kernel
def lengths(edges, metres, top, left, out):  # type: ignore[no-untyped-def]
    """Share out each edge's length, metres (m,), among the cells it runs through: out (rows, columns)."""
    rows, columns = out.shape
    for k in range(edges.shape[0]):
        x0, y0, x1, y1 = edges[k, 0] - left, edges[k, 1] - top, edges[k, 2] - left, edges[k, 3] - top
        at = 0.0
        while at < 1.0:
            after = 1.0
            for a, b in ((x0, x1), (y0, y1)):
                if a != b:
                    here = a + at * (b - a)
                    line = math.floor(here + 1e-9) + 1.0 if b > a else math.ceil(here - 1e-9) - 1.0
                    after = min(after, max((line - a) / (b - a), at + 1e-12))
            middle = (at + after) / 2
            r, c = math.floor(y0 + middle * (y1 - y0)), math.floor(x0 + middle * (x1 - x0))
            if 0 <= r < rows and 0 <= c < columns:
                out[r, c] += (after - at) * metres[k]
            at = after


@kernel
def discs(points, weights, across, along, top, left, out):  # type: ignore[no-untyped-def]
    """Add the weight of each point, (n, 2) column and row, to the cells whose middles are in reach of it.

    across, along: (n,) the reach of each in columns and in rows.
    """
    rows, columns = out.shape
    for k in range(points.shape[0]):
        x, y = points[k, 0] - left, points[k, 1] - top
        wide, high = across[k], along[k]
        for r in range(max(math.floor(y - high), 0), min(math.ceil(y + high) + 1, rows)):
            dy = (r + 0.5 - y) / high
            for c in range(max(math.floor(x - wide), 0), min(math.ceil(x + wide) + 1, columns)):
                dx = (c + 0.5 - x) / wide
                if dx * dx + dy * dy <= 1.0:
                    out[r, c] += weights[k]
