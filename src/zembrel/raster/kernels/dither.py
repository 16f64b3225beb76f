"""Colours to codes of a palette, with their errors spread.

Sources: R. W. Floyd, L. Steinberg, "An adaptive algorithm for spatial greyscale", Proceedings of the SID
17 (1976); B. E. Bayer, "An optimum method for two-level rendition of continuous-tone pictures", IEEE
International Conference on Communications (1973).
"""

from __future__ import annotations

import numpy as np

from zembrel.compiling import kernel


@kernel
def plain(cells, table, bits, offsets, top, left, codes):  # type: ignore[no-untyped-def]
    """The nearest code of each cell (3, rows, columns) after adding a pattern of offsets, (8, 8).

    top, left: where the cells lie in the whole, to which the pattern is tied.
    """
    shift = 8 - bits
    for r in range(codes.shape[0]):
        for c in range(codes.shape[1]):
            add = offsets[(top + r) % 8, (left + c) % 8]
            at = 0
            for b in range(3):
                value = min(max(cells[b, r, c] + add, 0.0), 255.0)
                at = (at << bits) | (int(value) >> shift)
            codes[r, c] = table[at]


@kernel
def diffused(cells, table, bits, colours, share, codes):  # type: ignore[no-untyped-def]
    """The same, a share of each cell's error handed on to the right and down.

    colours: (256, 3) of the codes.
    """
    shift = 8 - bits
    rows, columns = codes.shape
    here, below = np.zeros((columns + 2, 3), np.float32), np.zeros((columns + 2, 3), np.float32)
    value = np.empty(3, np.float32)
    for r in range(rows):
        for c in range(columns + 2):
            for b in range(3):
                below[c, b] = 0.0
        for c in range(columns):
            at = 0
            for b in range(3):
                value[b] = min(max(cells[b, r, c] + here[c + 1, b], 0.0), 255.0)
                at = (at << bits) | (int(value[b]) >> shift)
            code = table[at]
            codes[r, c] = code
            for b in range(3):
                error = share * (value[b] - colours[code, b])
                here[c + 2, b] += error * np.float32(7 / 16)
                below[c, b] += error * np.float32(3 / 16)
                below[c + 1, b] += error * np.float32(5 / 16)
                below[c + 2, b] += error * np.float32(1 / 16)
        here, below = below, here
