"""Poisson-disk thinning: points that keep a distance from all kept before them.

After the grid of Bridson, Fast Poisson disk sampling in arbitrary dimensions (SIGGRAPH 2007): cells so
small that
each holds one kept point, here in a table by hash, so that room grows with the points that are kept.
"""

from __future__ import annotations

import numpy as np
from numba import njit

EMPTY = -1


@njit(nogil=True, cache=True)
def _slot(i, j, k, keys):  # type: ignore[no-untyped-def]
    """Where cell (i, j, k) stands in a table of a power of two rows, or would."""
    mask = len(keys) - 1
    mixed = (i * 73856093) ^ (j * 19349663) ^ (k * 83492791)
    at = (mixed ^ (mixed >> 15)) & mask
    while keys[at, 3] != EMPTY and (keys[at, 0] != i or keys[at, 1] != j or keys[at, 2] != k):
        at = (at + 1) & mask
    return at


@njit(nogil=True, cache=True)
def keep_apart(x, y, z, distance, keys, places, count, kept):  # type: ignore[no-untyped-def]
    """Mark in `kept` (n,) the points that are at least `distance` from all kept ones, in order.

    keys (rows, 4): cell, and the number of its point in places (rows, 3), EMPTY for none; count: kept so far.
    Stops where the table is half full. Returns points done and the new count.
    """
    cell = distance / np.sqrt(3.0)
    for n in range(len(x)):
        if 2 * count >= len(keys):
            return n, count
        i, j, k = int(np.floor(x[n] / cell)), int(np.floor(y[n] / cell)), int(np.floor(z[n] / cell))
        free = keys[_slot(i, j, k, keys), 3] == EMPTY
        for a in range(-2, 3):
            for b in range(-2, 3):
                for c in range(-2, 3):
                    if free:
                        other = keys[_slot(i + a, j + b, k + c, keys), 3]
                        if other != EMPTY:
                            p = places[other]
                            away = (p[0] - x[n]) ** 2 + (p[1] - y[n]) ** 2 + (p[2] - z[n]) ** 2
                            free = away >= distance * distance
        if free:
            at = _slot(i, j, k, keys)
            keys[at, 0], keys[at, 1], keys[at, 2], keys[at, 3] = i, j, k, count
            places[count, 0], places[count, 1], places[count, 2] = x[n], y[n], z[n]
            count += 1
            kept[n] = True
    return len(x), count


@njit(nogil=True, cache=True)
def entered_again(keys, larger):  # type: ignore[no-untyped-def]
    """Put all cells of a table into a larger one."""
    for n in range(len(keys)):
        if keys[n, 3] != EMPTY:
            at = _slot(keys[n, 0], keys[n, 1], keys[n, 2], larger)
            larger[at, 0], larger[at, 1], larger[at, 2], larger[at, 3] = keys[n]
