"""Kernels without widening, their weights taken from a table; in the groups of `arguments`.

table: (phases, taps) as of `weights.phase_table`, 4 taps (cubic) or 6 (Lanczos). Inner loops index the
arrays as they are, by unsigned numbers: a slice would count references, a sign be looked at, for every cell.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from zembrel.compiling import kernel, part_of_kernels

NOWHERE = -(2**31)  # in place of a column that a position has not got


@kernel
def tabled(at, table, finish, into):  # type: ignore[no-untyped-def]
    """Any number of bands of any type."""
    cells, valid, u, v, left, top = at
    out, ok, start = into
    whole, low, high = finish.whole, finish.low, finish.high
    count = np.uint64(table.shape[1])
    for r in range(u.shape[0]):
        for c in range(u.shape[1]):
            x, y, i, j = _window(u[r, c] - left - 0.5, v[r, c] - top - 0.5, cells.shape, table.shape)
            if x == NOWHERE:
                continue
            if not _all_there(cells.shape, valid, x, y, table.shape[1]):
                _at_edge(cells, valid, (x, y, i, j), table, finish, start + r, c, out, ok)
                continue
            first, row, across, down = np.uint64(x), np.uint64(y), np.uint64(i), np.uint64(j)
            for b in range(np.uint64(cells.shape[0])):
                value = 0.0
                for k in range(count):
                    line = 0.0
                    for n in range(count):
                        line += table[across, n] * cells[b, row + k, first + n]
                    value += table[down, k] * line
                out[b, start + r, c] = min(max(math.floor(value + 0.5), low), high) if whole else value
            for layer in range(ok.shape[0]):
                ok[layer, start + r, c] = 1


@njit(nogil=True, cache=True, no_cfunc_wrapper=True, fastmath={"contract"})
def colours_of_4(colours, at, table, finish, into):  # type: ignore[no-untyped-def]
    """Three bands of unsigned integers of up to 16 bits, from 4 x 4 cells each.

    colours: the same cells once more as (rows, columns, 4), so that the colours of a cell lie side by
    side and are weighed together; table: float32.
    """
    _colours(4, colours, at, table, finish, into)


@njit(nogil=True, cache=True, no_cfunc_wrapper=True, fastmath={"contract"})
def colours_of_6(colours, at, table, finish, into):  # type: ignore[no-untyped-def]
    """The same from 6 x 6 cells."""
    _colours(6, colours, at, table, finish, into)


@njit(nogil=True, fastmath={"contract"}, inline="always")
def _colours(taps, colours, at, table, finish, into):  # type: ignore[no-untyped-def]
    """`taps` is a number in the text, so that the compiler unrolls the loops over it."""
    cells, valid, u, v, left, top = at
    out, ok, start = into
    zero, half, most = np.float32(0), np.float32(0.5), np.float32(finish.high)
    for r in range(u.shape[0]):
        for c in range(u.shape[1]):
            x, y, i, j = _window(u[r, c] - left - 0.5, v[r, c] - top - 0.5, cells.shape, table.shape)
            if x == NOWHERE:
                continue
            if not _all_there(cells.shape, valid, x, y, taps):
                _at_edge(cells, valid, (x, y, i, j), table, finish, start + r, c, out, ok)
                continue
            first, row, across, down = np.uint64(x), np.uint64(y), np.uint64(i), np.uint64(j)
            a0, a1, a2, a3 = half, half, half, half
            for k in range(taps):
                l0, l1, l2, l3 = zero, zero, zero, zero
                at = row + np.uint64(k)
                for n in range(taps):
                    w, here = table[across, np.uint64(n)], first + np.uint64(n)
                    l0 += w * np.float32(colours[at, here, 0])
                    l1 += w * np.float32(colours[at, here, 1])
                    l2 += w * np.float32(colours[at, here, 2])
                    l3 += w * np.float32(colours[at, here, 3])
                w = table[down, np.uint64(k)]
                a0, a1, a2, a3 = a0 + w * l0, a1 + w * l1, a2 + w * l2, a3 + w * l3
            out[0, start + r, c] = np.int32(min(max(a0, zero), most))
            out[1, start + r, c] = np.int32(min(max(a1, zero), most))
            out[2, start + r, c] = np.int32(min(max(a2, zero), most))
            for layer in range(ok.shape[0]):
                ok[layer, start + r, c] = 1


@kernel
def side_by_side(cells, colours):  # type: ignore[no-untyped-def]
    """Fill colours (rows, columns, 4) from three bands."""
    for y in range(cells.shape[1]):
        for x in range(cells.shape[2]):
            colours[y, x, 0] = cells[0, y, x]
            colours[y, x, 1] = cells[1, y, x]
            colours[y, x, 2] = cells[2, y, x]
            colours[y, x, 3] = 0


@njit(nogil=True, inline="always")
def _window(at_x, at_y, shape, table):  # type: ignore[no-untyped-def]
    """First column and row of the window around a position, and its phases across and down."""
    if not (-1.0 < at_x < shape[2] and -1.0 < at_y < shape[1]):
        return NOWHERE, 0, 0, 0
    x, y = int(at_x + 1.0) - 1, int(at_y + 1.0) - 1  # both lie above -1
    lead = table[1] // 2 - 1
    return x - lead, y - lead, int((at_x - x) * table[0]), int((at_y - y) * table[0])


@njit(nogil=True, inline="always")
def _all_there(shape, valid, x, y, count):  # type: ignore[no-untyped-def]
    """Whether the cells of a window are all inside and valid in every layer."""
    if not (x >= 0 and x + count <= shape[2] and y >= 0 and y + count <= shape[1]):
        return False
    for layer in range(valid.shape[0]):
        for j in range(y, y + count):
            for i in range(x, x + count):
                if not valid[layer, j, i]:
                    return False
    return True


@part_of_kernels
def _at_edge(cells, valid, window, table, finish, r, c, out, ok):  # type: ignore[no-untyped-def]
    """Cell (r, c) of all bands from those of its window that are there and valid."""
    x, y, i, j = window
    need, whole, low, high = finish
    bands, height, width = cells.shape
    masked, each, count = valid.shape[0] > 0, valid.shape[0] > 1, table.shape[1]
    for b in range(bands):
        layer = b if each else 0
        value, weight = 0.0, 0.0
        for k in range(max(-y, 0), min(count, height - y)):
            line, mass = 0.0, 0.0
            for n in range(max(-x, 0), min(count, width - x)):
                if not masked or valid[layer, y + k, x + n]:
                    line += table[i, n] * cells[b, y + k, x + n]
                    mass += table[i, n]
            value += table[j, k] * line
            weight += table[j, k] * mass
        if weight >= need and weight > 0.0:
            value /= weight
            out[b, r, c] = min(max(math.floor(value + 0.5), low), high) if whole else value
            ok[layer, r, c] = 1
