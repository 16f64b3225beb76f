"""Filling patches of a coordinate lattice by bilinear interpolation, and how far positions reach."""

from __future__ import annotations

import math

from zembrel.compiling import kernel, part_of_kernels


@kernel
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


@kernel
def reach(part, tops, lefts, side, nodes, limits, found):  # type: ignore[no-untyped-def]
    """Widen `found` (low u, high u, low v, high v) by the positions of the cells of `part`.

    part: top, left, bottom, right; tops, lefts, side and nodes as in `fill`; limits: width and height of
    a raster and the halos along x and y: only positions that near count.
    """
    half = side // 2
    width, height, halo_x, halo_y = limits
    for n in range(tops.size):
        for j in range(2):
            for i in range(2):
                row, column = tops[n] + j * half, lefts[n] + i * half
                first_r, last_r = max(row, part[0]), min(row + half, part[2]) - 1
                first_c, last_c = max(column, part[1]), min(column + half, part[3]) - 1
                if first_r > last_r or first_c > last_c:
                    continue
                ends_y = (first_r - row) / half, (last_r - row) / half
                ends_x = (first_c - column) / half, (last_c - column) / half
                low_u, high_u = _between(nodes[0, n, j : j + 2, i : i + 2], ends_x, ends_y)
                low_v, high_v = _between(nodes[1, n, j : j + 2, i : i + 2], ends_x, ends_y)
                near_x = low_u < width + halo_x and high_u > -halo_x
                if near_x and low_v < height + halo_y and high_v > -halo_y:
                    found[0], found[1] = min(found[0], low_u), max(found[1], high_u)
                    found[2], found[3] = min(found[2], low_v), max(found[3], high_v)


@part_of_kernels
def _between(corners, ends_x, ends_y):  # type: ignore[no-untyped-def]
    """Smallest and largest value that a bilinear quad takes on a part of itself: those at its corners."""
    low, high = math.inf, -math.inf
    for fy in ends_y:
        a = corners[0, 0] + fy * (corners[1, 0] - corners[0, 0])
        b = corners[0, 1] + fy * (corners[1, 1] - corners[0, 1])
        for fx in ends_x:
            value = a + fx * (b - a)
            low, high = min(low, value), max(high, value)
    return low, high


@kernel
def reach_alone(u, v, limits, found):  # type: ignore[no-untyped-def]
    """Widen `found` by positions u, v, (n,), NaN for nowhere; the others as in `reach`."""
    width, height, halo_x, halo_y = limits
    for n in range(u.size):
        if -halo_x < u[n] < width + halo_x and -halo_y < v[n] < height + halo_y:
            found[0], found[1] = min(found[0], u[n]), max(found[1], u[n])
            found[2], found[3] = min(found[2], v[n]), max(found[3], v[n])
