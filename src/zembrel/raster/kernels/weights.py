"""Weight functions of the interpolation kernels; their codes stand in `table`.

Sources: R. G. Keys, "Cubic convolution interpolation for digital image processing", IEEE
Transactions on Acoustics, Speech, and Signal Processing 29 (1981), with a = -1/2; C. E. Duchon,
"Lanczos filtering in one and two dimensions", Journal of Applied Meteorology 18 (1979).
"""

from __future__ import annotations

import math
from functools import lru_cache

import numpy as np
import numpy.typing as npt

from zembrel.compiling import kernel

PHASES = 4096  # positions within a cell for which weights are kept


@kernel
def weight(code: int, t: float) -> float:
    """Weight at distance `t` (in widened cells) from the middle of a kernel; 0 outside its radius."""
    t = abs(t)
    if code == 1:
        return 1.0 - t if t < 1.0 else 0.0
    if code == 2:
        if t < 1.0:
            return (1.5 * t - 2.5) * t * t + 1.0
        return ((-0.5 * t + 2.5) * t - 4.0) * t + 2.0 if t < 2.0 else 0.0
    if code == 3:
        if t < 1e-9:
            return 1.0
        angle = math.pi * t
        return 3.0 * math.sin(angle) * math.sin(angle / 3.0) / (angle * angle) if t < 3.0 else 0.0
    return math.nan  # no kernel has this code


@kernel
def taps(code: int, radius: float, at: float, width: float, into) -> tuple[int, int]:  # type: ignore[no-untyped-def]
    """Fill `into` with the weights of the cells around position `at`; returns first cell and count.

    width: cells of the source per cell of the result along this axis. Interpolation kernels never
    get narrower than one cell; the mean weighs each cell by the length that lies in the footprint.
    """
    if code == 4:
        low, high = at - 0.5 * width, at + 0.5 * width
        first, last = math.floor(low + 1e-7), math.ceil(high - 1e-7) - 1
        last = max(first, last)
        for i in range(first, last + 1):
            into[i - first] = max(min(i + 1.0, high) - max(float(i), low), 1e-12)
        return first, last - first + 1
    width = max(width, 1.0)
    first = math.ceil(at - 0.5 - radius * width)
    last = math.floor(at - 0.5 + radius * width)
    for i in range(first, last + 1):
        into[i - first] = weight(code, (i + 0.5 - at) / width)
    return first, last - first + 1


@lru_cache(maxsize=4)
def phase_table(code: int, radius: float) -> npt.NDArray[np.float64]:
    """Weights of the 2 * radius cells around a position at the middle of each phase, sum 1.

    Shape (PHASES, 2 * radius). Row p holds for positions from p to p + 1 of PHASES of a cell after
    the middle of the cell before them.
    """
    count = int(2 * radius)
    table = np.empty((PHASES, count))
    for p in range(PHASES):
        at = (p + 0.5) / PHASES
        table[p] = [weight(code, i - (count // 2 - 1) - at) for i in range(count)]
    normal: npt.NDArray[np.float64] = table / table.sum(axis=1, keepdims=True)
    return normal
