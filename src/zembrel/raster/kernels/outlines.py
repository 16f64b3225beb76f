"""Closed outlines of regions: from linked corners to rings of points, with their corners cut if asked.

Corners are those of `regions`: column, row times four with marks, and the next one.
"""

from __future__ import annotations

import numpy as np

from zembrel.compiling import kernel, part_of_kernels
from zembrel.raster.kernels.regions import MEETS, NEXT, NODE, NONE, OTHER, X, Y


@kernel
def unroll(nodes, across, first, corners, rings, starts, twice):  # type: ignore[no-untyped-def]
    """Write closed outlines from the corners `first` (m,) on into corners (n, 2), columns and twice the rows,
    one more where three or four edges meet.

    One that comes back to a corner is taken apart there. Fills rings, which of `first` each is of; starts,
    where its corners begin; and twice its area, negative for holes. Returns how many there are.
    """
    place = np.full(nodes.shape[0], NONE, np.int32)  # on the path, of corners where four edges meet
    marks, aside = np.empty(nodes.shape[0], np.int32), np.empty((2 * nodes.shape[0], 2), np.int32)
    found, size = 0, 0
    for k in range(first.size):
        start, node, marked, moved = size, first[k], 0, 0
        while True:
            meets = nodes[node, Y] & MEETS
            if meets and across[node] != NONE and place[across[node]] != NONE:
                low = place[across[node]]  # here it was before: what came since goes aside
                for m in range(low, size):
                    aside[moved, 0], aside[moved, 1] = corners[m, 0], corners[m, 1]
                    moved += 1
                aside[moved, 0] = size - low
                moved += 1
                while marked > 0 and place[marks[marked - 1]] > low:
                    marked -= 1
                    place[marks[marked]] = NONE
                size = low + 1
            else:
                if meets:
                    place[node], marks[marked] = size, node
                    marked += 1
                corners[size, 0], corners[size, 1] = nodes[node, X], nodes[node, Y] >> 1  # FIXED stays
                size += 1
            node = nodes[node, NEXT]
            if node == first[k]:
                break
        for m in range(marked):
            place[marks[m]] = NONE
        rings[found], starts[found], twice[found] = k, start, _twice(corners, start, size)
        found += 1
        while moved > 0:
            moved -= 1
            start, size = size, size + aside[moved, 0]
            moved -= size - start
            for m in range(size - start):
                corners[start + m, 0], corners[start + m, 1] = aside[moved + m, 0], aside[moved + m, 1]
            rings[found], starts[found], twice[found] = k, start, _twice(corners, start, size)
            found += 1
    starts[found] = size
    return found


@part_of_kernels
def _twice(corners, low, high):  # type: ignore[no-untyped-def]
    """Twice the area within some corners."""
    area = np.int64(0)
    x, y = np.int64(corners[high - 1, 0]), np.int64(corners[high - 1, 1] >> 1)
    for m in range(low, high):
        x2, y2 = np.int64(corners[m, 0]), np.int64(corners[m, 1] >> 1)
        area += x * y2 - x2 * y
        x, y = x2, y2
    return area


@kernel
def closed(corners, starts, order, affine):  # type: ignore[no-untyped-def]
    """Outlines in `order`, each back to its first corner, in the coordinates of an affine transform: points
    (n, 2) and where each begins (m + 1,)."""
    x0, x_col, x_row, y0, y_col, y_row = affine
    points = np.empty((corners.shape[0] + order.size, 2))
    begins = np.empty(order.size + 1, np.int64)
    at = 0
    for n in range(order.size):
        begins[n] = at
        k = order[n]
        for m in range(starts[k], starts[k + 1] + 1):
            corner = m if m < starts[k + 1] else starts[k]
            col, row = float(corners[corner, 0]), float(corners[corner, 1] >> 1)
            points[at, 0] = x0 + col * x_col + row * x_row
            points[at, 1] = y0 + col * y_col + row * y_row
            at += 1
    begins[order.size] = at
    return points[:at], begins


@kernel
def smoothed(points, begins, fixed, most, passes):  # type: ignore[no-untyped-def]
    """Outlines with their corners cut, but those that are fixed (n,).

    Returns points (n, 2), where each outline, back to its first corner, begins (m + 1,), and what is fixed.

    A corner loses a quarter of the edges beside it, at most `most` of their length, in each pass; the same
    whichever way an edge runs. Source: G. M. Chaikin, "An algorithm for high-speed curve generation",
    Computer Graphics and Image Processing 3 (1974).
    """
    for _ in range(passes):
        new, new_fixed = np.empty((2 * points.shape[0], 2)), np.zeros(2 * points.shape[0], np.bool_)
        new_begins, at = np.empty_like(begins), 0
        for k in range(begins.size - 1):
            new_begins[k] = at
            for m in range(begins[k], begins[k + 1] - 1):
                x, y, x2, y2 = points[m, 0], points[m, 1], points[m + 1, 0], points[m + 1, 1]
                length = np.hypot(x2 - x, y2 - y)
                share = min(0.25, most / length) if length > 0 else 0.0
                for end in range(2):
                    a, b = (m, m + 1) if end == 0 else (m + 1, m)
                    if fixed[a]:
                        if end == 0:
                            new[at, 0], new[at, 1], new_fixed[at] = points[a, 0], points[a, 1], True
                            at += 1
                        continue
                    for n in range(2):
                        new[at, n] = points[a, n] + share * (points[b, n] - points[a, n])
                    at += 1
            new[at], new_fixed[at] = new[new_begins[k]], new_fixed[new_begins[k]]
            at += 1
        new_begins[begins.size - 1] = at
        points, begins, fixed = new[:at], new_begins, new_fixed[:at]
    return points, begins, fixed


@kernel
def kept(tails, open_ends, nodes, across, new, new_across):  # type: ignore[no-untyped-def]
    """Move the corners of open outlines, those that begin at the ends `tails`, to new (n, 3) and new_across.

    Returns how many there are.
    """
    renamed = np.full(nodes.shape[0], NONE, np.int32)
    count = 0
    for tail in tails:
        node, last = open_ends[tail, NODE], open_ends[open_ends[tail, OTHER], NODE]
        open_ends[tail, NODE] = count
        while True:
            renamed[node] = count
            new[count, X], new[count, Y], new[count, NEXT] = nodes[node, X], nodes[node, Y], count + 1
            new_across[count] = across[node] if nodes[node, Y] & MEETS else NONE
            count += 1
            if node == last:
                break
            node = nodes[node, NEXT]
        open_ends[open_ends[tail, OTHER], NODE] = count - 1
        new[count - 1, NEXT] = NONE
    for node in range(count):
        if new_across[node] != NONE:
            new_across[node] = renamed[new_across[node]]
    return count
