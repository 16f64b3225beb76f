"""Filling patches of a coordinate lattice by bilinear interpolation."""

from __future__ import annotations

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
            for c in range(max(lefts[n], left), min(lefts[n] + side, left + u.shape[1])):
                i = (c - lefts[n]) // half
                fx = ((c - lefts[n]) - i * half) / half
                for axis in range(2):
                    a, b = nodes[axis, n, j, i], nodes[axis, n, j, i + 1]
                    d, e = nodes[axis, n, j + 1, i], nodes[axis, n, j + 1, i + 1]
                    high, low = a + fx * (b - a), d + fx * (e - d)
                    if axis == 0:
                        u[r - top, c - left] = high + fy * (low - high)
                    else:
                        v[r - top, c - left] = high + fy * (low - high)
