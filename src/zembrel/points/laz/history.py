"""What predictions rest on: running medians of five, and contexts by return number.

Specification, POINT10: tables of return maps and levels, and the streaming median; POINT14: the same for 15
returns.
"""

from __future__ import annotations

import numpy as np
from numba import types

from zembrel.points.laz.typed import INT, STATE, kernel

MEDIAN = 6  # five values in order and the side that the next one may push out


@kernel(types.void, STATE, INT, INT)
def add_to_median(h, o, v):
    """Specification, streaming median of 5: values leave at the top and the bottom in turn; h[o + 2] is
    it."""
    if h[o + 5] == 0:  # the top is next
        if v < h[o + 2]:
            h[o + 4] = h[o + 3]
            h[o + 3] = h[o + 2]
            if v < h[o]:
                h[o + 2] = h[o + 1]
                h[o + 1] = h[o]
                h[o] = v
            elif v < h[o + 1]:
                h[o + 2] = h[o + 1]
                h[o + 1] = v
            else:
                h[o + 2] = v
        else:
            if v < h[o + 3]:
                h[o + 4] = h[o + 3]
                h[o + 3] = v
            else:
                h[o + 4] = v
            h[o + 5] = 1
    elif v > h[o + 2]:
        h[o] = h[o + 1]
        h[o + 1] = h[o + 2]
        if v > h[o + 4]:
            h[o + 2] = h[o + 3]
            h[o + 3] = h[o + 4]
            h[o + 4] = v
        elif v > h[o + 3]:
            h[o + 2] = h[o + 3]
            h[o + 3] = v
        else:
            h[o + 2] = v
    else:
        if v > h[o + 1]:
            h[o] = h[o + 1]
            h[o + 1] = v
        else:
            h[o] = v
        h[o + 5] = 0


# Specification, POINT10: context of return r of n, r + 8 n
_RETURN_MAP = np.array(
    [
        [15, 14, 13, 12, 11, 10, 9, 8],
        [14, 0, 1, 3, 6, 10, 10, 9],
        [13, 1, 2, 4, 7, 11, 11, 10],
        [12, 3, 4, 5, 8, 12, 12, 11],
        [11, 6, 7, 8, 9, 13, 13, 12],
        [10, 10, 11, 12, 13, 14, 14, 13],
        [9, 10, 11, 12, 13, 14, 15, 14],
        [8, 9, 10, 11, 12, 13, 14, 15],
    ],
    np.uint8,
)


def _six_contexts() -> np.ndarray:
    """Specification, POINT14: single, first of two, last of two, first, intermediate and last of more."""
    made = np.full((16, 16), 4, np.uint8)
    np.fill_diagonal(made, 5)
    late = np.arange(11, 15)  # a table of numbers, which has the last of many also one beside the diagonal
    made[late, late + 1] = made[late + 1, late] = 5
    made[0] = made[:, 0] = [0, 1, 2, 3, 4, 5, 3, 4, 4, 5, 5, 5, 5, 5, 5, 5]  # no proper returns
    made[1, 1:] = made[1:, 1] = [0, 1, *[3] * 13]
    made[2, 2:] = made[2:, 2] = [2, *[4] * 13]
    return made


SIX_CONTEXTS = _six_contexts()


@kernel(INT, INT, INT)
def return_map(n, r):
    """Context 0 ... 15 of return `r` of `n`, each 0 ... 7."""
    return np.int64(_RETURN_MAP[n, r])


@kernel(INT, INT, INT)
def six_contexts(n, r):
    """Context 0 ... 5 of return `r` of `n`, each 0 ... 15."""
    return np.int64(SIX_CONTEXTS[n, r])
