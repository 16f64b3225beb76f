"""Where a line of one level passes the edges of a square between the middles of four cells.

Edges are counted clockwise from the top, corners from the top left. A square is its row and column in a
block, the row of the block, the values at its corners, the level, and the cells that lines keep from middles.
Minus infinity is nothing: lines keep to the edges of such cells, half-way to the next middle.
"""

from __future__ import annotations

import numpy as np

from zembrel.compiling import part_of_kernels

TOP, RIGHT, BOTTOM, LEFT = range(4)


@part_of_kernels
def _share(z0, z1, level, margin):  # type: ignore[no-untyped-def]
    """The share of an edge from z0 to z1 at which it passes the level, `margin` or more from either end."""
    if z0 == -np.inf or z1 == -np.inf:
        return 0.5
    return min(max((level - z0) / (z1 - z0), margin), 1.0 - margin)


@part_of_kernels
def ends_at_nothing(edge, corners):  # type: ignore[no-untyped-def]
    """Whether one corner of an edge is nothing."""
    return corners[edge] == -np.inf or corners[(edge + 1) % 4] == -np.inf


@part_of_kernels
def turn(start, goal, square):  # type: ignore[no-untyped-def]
    """Where a line turns into the edge of what is nothing: square to that, or at its corner."""
    x, y, nothing = square[1] + 1.0, square[2] + square[0] + 1.0, 0
    for n in range(4):
        nothing += square[3][n] == -np.inf
    edge = goal if ends_at_nothing(start, square[3]) else start
    if nothing == 2 and not ends_at_nothing(edge, square[3]):
        passed_x, passed_y = passed(edge, square)
        if edge in (TOP, BOTTOM):
            x = passed_x
        else:
            y = passed_y
    return x, y


@part_of_kernels
def passed(edge, square):  # type: ignore[no-untyped-def]
    """Where the level passes an edge of a square, in columns and rows of the frame."""
    r, c, y, (z0, z1, z2, z3), level, margin = square
    if edge == TOP:
        return c + 0.5 + _share(z0, z1, level, margin), y + r + 0.5
    if edge == BOTTOM:
        return c + 0.5 + _share(z3, z2, level, margin), y + r + 1.5
    if edge == LEFT:
        return c + 0.5, y + r + 0.5 + _share(z0, z3, level, margin)
    return c + 1.5, y + r + 0.5 + _share(z1, z2, level, margin)
