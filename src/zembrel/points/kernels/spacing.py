"""Poisson-disk thinning: points that keep a distance from all kept before them.

After the grid of Bridson, Fast Poisson disk sampling in arbitrary dimensions (SIGGRAPH 2007): cells so small
that each holds one kept point, here in a table by hash of the numbers of points, so that room grows with the
points that are kept, by 32 to 40 bytes each.
"""

from __future__ import annotations

import numpy as np

from zembrel.compiling import kernel, part_of_kernels

EMPTY = -1


@part_of_kernels
def _slot(i, j, k, table, places, scale):  # type: ignore[no-untyped-def]
    """Where the point of cell (i, j, k) stands in a table of a power of two rows, or would."""
    mask = len(table) - 1
    mixed = (i * 73856093) ^ (j * 19349663) ^ (k * 83492791)
    at = (mixed ^ (mixed >> 15)) & mask
    while table[at] != EMPTY:
        p = places[table[at]]
        if np.floor(p[0] * scale) == i and np.floor(p[1] * scale) == j and np.floor(p[2] * scale) == k:
            break
        at = (at + 1) & mask
    return at


@kernel
def keep_apart(x, y, z, distance, table, places, count, kept):  # type: ignore[no-untyped-def]
    """Mark in `kept` (n,) the points that are at least `distance` from all kept ones, in order.

    table (rows,): numbers of points in places (rows / 2, 3), EMPTY for none; count: kept so far. Stops where
    the table is half full. Returns points done and the new count.
    """
    scale = np.sqrt(3.0) / distance
    for n in range(len(x)):
        if 2 * count >= len(table):
            return n, count
        i, j, k = int(np.floor(x[n] * scale)), int(np.floor(y[n] * scale)), int(np.floor(z[n] * scale))
        at = _slot(i, j, k, table, places, scale)
        if table[at] != EMPTY:
            continue
        free = True
        for a in range(-2, 3):
            for b in range(-2, 3):
                for c in range(-2, 3):
                    if free:
                        other = table[_slot(i + a, j + b, k + c, table, places, scale)]
                        if other != EMPTY:
                            p = places[other]
                            away = (p[0] - x[n]) ** 2 + (p[1] - y[n]) ** 2 + (p[2] - z[n]) ** 2
                            free = away >= distance * distance
        if free:
            table[at] = count
            places[count, 0], places[count, 1], places[count, 2] = x[n], y[n], z[n]
            count += 1
            kept[n] = True
    return len(x), count


@kernel
def entered_again(places, count, distance, table):  # type: ignore[no-untyped-def]
    """Enter the first `count` places into an empty table."""
    scale = np.sqrt(3.0) / distance
    for n in range(count):
        i, j = int(np.floor(places[n, 0] * scale)), int(np.floor(places[n, 1] * scale))
        table[_slot(i, j, int(np.floor(places[n, 2] * scale)), table, places, scale)] = n
