"""Sums that lose nothing: each source cell shared out by the area that lies in every result cell.

Source: I. E. Sutherland, G. W. Hodgman, "Reentrant polygon clipping", Communications of the ACM 17
(1974); the shoelace formula.
"""

from __future__ import annotations

import math

import numpy as np

from zembrel.compiling import kernel, part_of_kernels


@kernel
def summed(cells, valid, corner_u, corner_v, left, top, out, ok):  # type: ignore[no-untyped-def]
    """Fill out (bands, rows, columns) with sums over the footprints between four corners each.

    corner_u, corner_v: (rows + 1, columns + 1) source positions. A footprint is the quadrangle of its
    corners, so neighbours share an edge and every part of a source cell is counted once.
    """
    bands, height, width = cells.shape
    masked, each = valid.shape[0] > 0, valid.shape[0] > 1
    one, other = np.empty((16, 2)), np.empty((16, 2))
    quad = np.empty((4, 2))
    for r in range(out.shape[1]):
        for c in range(out.shape[2]):
            for n, (j, i) in enumerate(((0, 0), (0, 1), (1, 1), (1, 0))):
                quad[n, 0], quad[n, 1] = corner_u[r + j, c + i], corner_v[r + j, c + i]
            if not np.isfinite(quad).all():
                continue
            # counted from a cell of the quadrangle's own, so that rounding does not depend on the block
            base_x, base_y = math.floor(quad[:, 0].min()), math.floor(quad[:, 1].min())
            for n in range(4):
                quad[n, 0] -= base_x
                quad[n, 1] -= base_y
            first_x, first_y = base_x - left, base_y - top
            last_x, last_y = first_x + math.ceil(quad[:, 0].max()), first_y + math.ceil(quad[:, 1].max())
            for y in range(max(first_y, 0), min(last_y, height)):
                for x in range(max(first_x, 0), min(last_x, width)):
                    area = _shared(quad, x - first_x, y - first_y, one, other)
                    if area < 1e-12:
                        continue
                    for b in range(bands):
                        layer = b if each else 0
                        if not masked or valid[layer, y, x]:
                            out[b, r, c] += area * cells[b, y, x]
                            ok[layer, r, c] = 1


@part_of_kernels
def _shared(quad, x, y, one, other):  # type: ignore[no-untyped-def]
    """Area of a quadrangle, (4, 2), inside the cell whose upper left corner is (x, y)."""
    for k in range(4):
        one[k, 0], one[k, 1] = quad[k, 0], quad[k, 1]
    n = _cut(one, 4, other, 0, float(x), 1.0)
    n = _cut(other, n, one, 0, -float(x + 1), -1.0)
    n = _cut(one, n, other, 1, float(y), 1.0)
    n = _cut(other, n, one, 1, -float(y + 1), -1.0)
    twice = 0.0
    for i in range(n):
        j = i + 1 if i + 1 < n else 0
        twice += one[i, 0] * one[j, 1] - one[j, 0] * one[i, 1]
    return abs(twice) / 2


@part_of_kernels
def _cut(ring, n, into, axis, limit, sign):  # type: ignore[no-untyped-def]
    """The part of a ring of n points where sign * coordinate >= limit; returns its number of points."""
    kept = 0
    for i in range(n):
        j = i + 1 if i + 1 < n else 0
        here, there = sign * ring[i, axis] - limit, sign * ring[j, axis] - limit
        if here >= 0.0:
            into[kept, 0], into[kept, 1] = ring[i, 0], ring[i, 1]
            kept += 1
        if (here >= 0.0) != (there >= 0.0):
            part = here / (here - there)
            into[kept, 0] = ring[i, 0] + part * (ring[j, 0] - ring[i, 0])
            into[kept, 1] = ring[i, 1] + part * (ring[j, 1] - ring[i, 1])
            kept += 1
    return kept
