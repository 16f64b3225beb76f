"""Heights of triangles at the middles of cells."""

from __future__ import annotations

import numpy as np

from zembrel.compiling import kernel, part_of_kernels


@part_of_kernels
def _side(ax, ay, bx, by, px, py):  # type: ignore[no-untyped-def]
    """On which side of the line through a and b a point lies; the same number whichever end comes first,
    but for
    its sign, and never 0: a point on the line counts to one side."""
    turned = ax > bx or (ax == bx and ay > by)
    if turned:
        ax, ay, bx, by = bx, by, ax, ay
    cross = (bx - ax) * (py - ay) - (by - ay) * (px - ax)
    if cross == 0.0:
        cross = 1e-300
    return -cross if turned else cross


@part_of_kernels
def _radius(ax, ay, bx, by, cx, cy):  # type: ignore[no-untyped-def]
    """Radius of the circle through three points."""
    area = abs((bx - ax) * (cy - ay) - (by - ay) * (cx - ax))
    sides = np.hypot(bx - ax, by - ay) * np.hypot(cx - bx, cy - by) * np.hypot(ax - cx, ay - cy)
    return sides / (2.0 * area) if area > 0 else np.inf


@kernel
def paint_triangles(points, z, corners, reach, top, left, out):  # type: ignore[no-untyped-def]
    """Heights of triangles at the middles of cells.

    points (n, 2): columns and rows in cells; z (n,); corners (m, 3): numbers of points; reach: cells, the
    largest
    radius of a triangle's circle; out (rows, columns), whose first cell is (top, left), NaN before.
    """
    rows, columns = out.shape
    for t in range(len(corners)):
        a, b, c = corners[t]
        # an order that rests on the places alone, so that the same triangle gives the same heights to the bit
        for _ in range(2):
            if (points[a, 0], points[a, 1]) > (points[b, 0], points[b, 1]):
                a, b = b, a
            if (points[b, 0], points[b, 1]) > (points[c, 0], points[c, 1]):
                b, c = c, b
        ax, ay, bx, by = points[a, 0], points[a, 1], points[b, 0], points[b, 1]
        cx, cy = points[c, 0], points[c, 1]
        first = max(int(np.ceil(min(ay, by, cy) - 0.5)), top)
        last = min(int(np.floor(max(ay, by, cy) - 0.5)), top + rows - 1)
        begin = max(int(np.ceil(ax - 0.5)), left)
        end = min(int(np.floor(cx - 0.5)), left + columns - 1)
        if first > last or begin > end or _radius(ax, ay, bx, by, cx, cy) > reach:
            continue
        double = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        east = ((z[b] - z[a]) * (cy - ay) - (z[c] - z[a]) * (by - ay)) / double
        south = ((z[c] - z[a]) * (bx - ax) - (z[b] - z[a]) * (cx - ax)) / double
        for row in range(first, last + 1):
            for column in range(begin, end + 1):
                px, py = column + 0.5, row + 0.5
                one, two, three = (
                    _side(ax, ay, bx, by, px, py),
                    _side(bx, by, cx, cy, px, py),
                    _side(cx, cy, ax, ay, px, py),
                )
                if (one > 0) == (two > 0) and (two > 0) == (three > 0):
                    out[row - top, column - left] = z[a] + east * (px - ax) + south * (py - ay)
