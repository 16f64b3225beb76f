"""Closing voids from their rims."""

from __future__ import annotations

import math

import numpy as np

from zembrel.compiling import kernel

DIRECTIONS = 16


@kernel
def filled(cells, valid, top, left, reach, nearest, out, ok):  # type: ignore[no-untyped-def]
    """Fill the invalid cells of one band from the first valid one in each of 16 directions.

    cells, valid: (rows, columns) of a pane with a halo, of which out and ok, (rows, columns), are the part
    from (top, left) on; reach: cells to look far; nearest: take the nearest rather than the mean weighted by
    the inverse square of distance. ok is set where a cell was valid or has been filled.
    """
    height, width = cells.shape
    for r in range(out.shape[0]):
        for c in range(out.shape[1]):
            y, x = r + top, c + left
            if valid[y, x]:
                out[r, c] = cells[y, x]
                ok[r, c] = 1
                continue
            total, mass, best = 0.0, 0.0, reach + 1.0
            value = cells[y, x]
            for d in range(16):
                angle = 2.0 * math.pi * d / 16.0
                dy, dx = math.sin(angle), math.cos(angle)
                for step in range(1, int(reach) + 1):
                    yy, xx = y + round(dy * step), x + round(dx * step)
                    if yy < 0 or yy >= height or xx < 0 or xx >= width:
                        break
                    if valid[yy, xx]:
                        away = math.hypot(yy - y, xx - x)
                        if away <= reach:
                            total += cells[yy, xx] / (away * away)
                            mass += 1.0 / (away * away)
                            if away < best:
                                best, value = away, cells[yy, xx]
                        break
            if mass > 0.0:
                if nearest:
                    out[r, c] = value
                else:
                    out[r, c] = total / mass
                ok[r, c] = 1


@kernel
def filled_whole(cells, valid, top, left, reach, nearest, out, ok):  # type: ignore[no-untyped-def]
    """The same for whole numbers: means are rounded."""
    exact = np.zeros(out.shape, np.float64)
    filled(cells.astype(np.float64), valid, top, left, reach, nearest, exact, ok)
    for r in range(out.shape[0]):
        for c in range(out.shape[1]):
            out[r, c] = math.floor(exact[r, c] + 0.5)
