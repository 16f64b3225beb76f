"""Tone matching: gains and offsets that bring sheets together where they overlap.

For all sheets and all overlaps at once, the squares of g_i x + o_i - (g_j y + o_j) over common cells x
of sheet i and y of sheet j are made least, band by band, while the mean gain stays 1 and the mean offset
0: the tone of all together is kept. A tiny weight draws each sheet towards what it was, which decides what
overlaps leave open (sheets that overlap none, or flat ones). Solved by conjugate gradients
(M. R. Hestenes, E. Stiefel, "Methods of conjugate gradients for solving linear systems", Journal of
Research of the National Bureau of Standards 49, 1952), so that thousands of sheets are no matter.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[np.float64]
PULL = 1e-6  # weight of staying as it was, against a sheet's common cells
HOLD = 100.0  # weight of the mean gain and offset, against all common cells
_GOOD = 1e-12  # of the first residual


class Common(NamedTuple):
    """Common cells of sheets `first` and `second` in one band: how many, and sums of x, y, xx, yy, xy."""

    first: int
    second: int
    sums: tuple[float, ...]


def matched(sheets: int, commons: Sequence[Common]) -> tuple[Array, Array]:
    """Gains and offsets, (sheets,) each, for one band."""
    if not commons:
        return np.ones(sheets), np.zeros(sheets)
    i = np.array([c.first for c in commons])
    j = np.array([c.second for c in commons])
    n, x, y, xx, yy, xy = np.array([c.sums for c in commons]).T
    middle = (x.sum() + y.sum()) / (2 * n.sum())  # values are counted from here: better conditioned
    xx, yy = xx - 2 * middle * x + n * middle**2, yy - 2 * middle * y + n * middle**2
    xy = xy - middle * (x + y) + n * middle**2
    x, y = x - n * middle, y - n * middle
    spread = max(float((xx.sum() + yy.sum()) / (2 * n.sum())), 1e-12)
    weight = np.bincount(i, n, sheets) + np.bincount(j, n, sheets)
    share = weight / weight.sum()
    units = np.array([[spread], [1.0]]) * weight.sum()
    pull, hold = PULL * units * np.maximum(share, 1 / weight.sum()), HOLD * units

    def applied(p: Array) -> Array:
        """The normal matrix times gains and offsets, (2, sheets)."""
        (gi, gj), (oi, oj) = (p[0][i], p[0][j]), (p[1][i], p[1][j])
        at_gain = np.bincount(i, xx * gi + x * oi - xy * gj - x * oj, sheets)
        at_gain += np.bincount(j, yy * gj + y * oj - xy * gi - y * oi, sheets)
        apart = x * gi + n * oi - y * gj - n * oj
        at_offset = np.bincount(i, apart, sheets) - np.bincount(j, apart, sheets)
        means = hold * (p * share).sum(axis=1, keepdims=True) * share
        product: Array = np.stack([at_gain, at_offset]) + pull * p + means
        return product

    wanted = np.stack([pull[0] + hold[0] * share, np.zeros(sheets)])
    gains, offsets = _solved(applied, wanted, np.stack([np.ones(sheets), np.zeros(sheets)]))
    return gains, offsets + middle * (1 - gains)


def _solved(applied: Callable[[Array], Array], wanted: Array, start: Array) -> Array:
    at, rest = start, wanted - applied(start)
    step, size = rest, float((rest * rest).sum())
    first = size
    for _ in range(20 * wanted.size):
        if size <= _GOOD * first:
            break
        ahead = applied(step)
        length = size / float((step * ahead).sum())
        at, rest = at + length * step, rest - length * ahead
        after = float((rest * rest).sum())
        step, size = rest + after / size * step, after
    return at
