"""Filling patches of a coordinate lattice by bilinear interpolation, and how far positions reach."""

from __future__ import annotations

import math

from numba import njit


@njit(nogil=True, cache=True)
def fill(u, v, top, left, tops, lefts, side, nodes):  # type: ignore[no-untyped-def]
    """Interpolate positions into u and v, (rows, columns), whose first cell is (top, left).

    tops, lefts: (n,) first cell of each square patch of `side` cells; nodes: (2, n, 3, 3) exact
    positions at the patch's corners, edge middles and middle, so four bilinear quads each.
    """
    half = side // 2
    for n in range(tops.size):
        for r in range(max(tops[n], top), min(tops[n] + side, top + u.shape[0])):
            j = (r - tops[n]) // half
            fy = ((r - tops[n]) - j * half) / half
            for i in range(2):
                edge = lefts[n] + i * half
                first, last = max(edge, left), min(edge + half, left + u.shape[1])
                a = nodes[0, n, j, i] + fy * (nodes[0, n, j + 1, i] - nodes[0, n, j, i])
                b = nodes[0, n, j, i + 1] + fy * (nodes[0, n, j + 1, i + 1] - nodes[0, n, j, i + 1])
                d = nodes[1, n, j, i] + fy * (nodes[1, n, j + 1, i] - nodes[1, n, j, i])
                e = nodes[1, n, j, i + 1] + fy * (nodes[1, n, j + 1, i + 1] - nodes[1, n, j, i + 1])
                step_u, step_v = (b - a) / half, (e - d) / half
                row_u, row_v = u[r - top, first - left : last - left], v[r - top, first - left : last - left]
                for k in range(row_u.size):
                    row_u[k] = a + (k + first - edge) * step_u
                    row_v[k] = d + (k + first - edge) * step_v


@njit(nogil=True, cache=True)
def reach(u, v, width, height, halo_x, halo_y):  # type: ignore[no-untyped-def]
    """Smallest and largest u and v of the positions within the halos of a raster of width x height.

    Returns low u, high u, low v, high v; low u is above high u if no position is near.
    """
    low_u, high_u, low_v, high_v = math.inf, -math.inf, math.inf, -math.inf
    for r in range(u.shape[0]):
        for c in range(u.shape[1]):
            x, y = u[r, c], v[r, c]
            if -halo_x < x < width + halo_x and -halo_y < y < height + halo_y:
                low_u, high_u = min(low_u, x), max(high_u, x)
                low_v, high_v = min(low_v, y), max(high_v, y)
    return low_u, high_u, low_v, high_v
