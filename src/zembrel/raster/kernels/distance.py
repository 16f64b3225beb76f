"""How far inside cells lie.

Source: A. Meijster, J. Roerdink, W. Hesselink, "A general algorithm for computing distance transforms in
linear time", Mathematical Morphology and its Applications to Image and Signal Processing (2000).
"""

from __future__ import annotations

import math

import numpy as np

from zembrel.compiling import kernel


@kernel
def depth(inside, most):  # type: ignore[no-untyped-def]
    """Distance in cells, middle to middle, from each cell to the nearest one that is not `inside`.

    inside: (rows, columns) uint8; what lies beyond counts as inside. Distances are held at `most`.
    Returns (rows, columns) float32.
    """
    rows, columns = inside.shape
    ceiling = math.ceil(most) + 1.0
    down = np.empty((rows, columns), np.float64)
    for c in range(columns):
        run = ceiling
        for r in range(rows):
            run = 0.0 if not inside[r, c] else min(run + 1.0, ceiling)
            down[r, c] = run
        run = ceiling
        for r in range(rows - 1, -1, -1):
            run = 0.0 if not inside[r, c] else min(run + 1.0, ceiling)
            down[r, c] = min(down[r, c], run)
    out = np.empty((rows, columns), np.float32)
    reach = int(ceiling)
    for r in range(rows):
        for c in range(columns):
            best = down[r, c] * down[r, c]
            for i in range(1, reach):
                if i * i >= best:
                    break
                if c - i >= 0:
                    best = min(best, i * i + down[r, c - i] * down[r, c - i])
                if c + i < columns:
                    best = min(best, i * i + down[r, c + i] * down[r, c + i])
            out[r, c] = min(math.sqrt(best), most)
    return out
