"""Sorting inside kernels, in a form that compiles in a moment.

C. A. R. Hoare, "Quicksort", The Computer Journal 5 (1962), with the median of three; short runs by insertion.
"""

from __future__ import annotations

import numpy as np

from zembrel.compiling import part_of_kernels

_SHORT = 16  # numbers that are left to insertion


@part_of_kernels
def ascend(values, along, first, last):  # type: ignore[no-untyped-def]
    """Bring values [first, last) into rising order, and `along`, if it holds anything, with them."""
    paired = along.size > 0
    stack, held, low, high = np.empty((64, 2), np.int64), 0, first, last - 1
    while True:
        while high - low > _SHORT:
            a, b, c = values[low], values[(low + high) // 2], values[high]
            middle = max(min(a, b), min(max(a, b), c))
            i, j = low, high
            while i <= j:
                while values[i] < middle:
                    i += 1
                while values[j] > middle:
                    j -= 1
                if i <= j:
                    values[i], values[j] = values[j], values[i]
                    if paired:
                        along[i], along[j] = along[j], along[i]
                    i += 1
                    j -= 1
            if j - low > high - i:
                stack[held, 0], stack[held, 1] = low, j
                low = i
            else:
                stack[held, 0], stack[held, 1] = i, high
                high = j
            held += 1
        if held == 0:
            break
        held -= 1
        low, high = stack[held, 0], stack[held, 1]
    for k in range(first + 1, last):
        value, i = values[k], k - 1
        part = along[k] if paired else along.dtype.type(0)
        while i >= first and values[i] > value:
            values[i + 1] = values[i]
            if paired:
                along[i + 1] = along[i]
            i -= 1
        values[i + 1] = value
        if paired:
            along[i + 1] = part
