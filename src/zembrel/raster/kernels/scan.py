"""Scan conversion: features in cells of a frame.

Common arguments: edges (m, 4) column, row, column, row of every edge, in cells of the frame; starts (n + 1,)
where the edges of each feature begin; top and left of the block. A polygon holds the cells whose middles lie
in it by the even-odd rule, a middle on its edge counting as on the side of larger columns and rows: of areas
that share an edge just one claims each cell.
"""

from __future__ import annotations

import math

import numpy as np

from zembrel.compiling import kernel, part_of_kernels
from zembrel.raster.kernels.ordering import ascend

FIRST, LAST, MIN, MAX, SUM, COUNT, MEAN = range(7)
ON_A_CORNER = 1e-7  # cells between two crossings that are one, at a corner
INSIDE, TOUCHED, THIN, CROSSED, POINT = range(5)


@kernel
def claim(edges, starts, kinds, values, rule, top, left, out, count, stamp):  # type: ignore[no-untyped-def]
    """Put values (n,) into out (rows, columns) where features of kinds (n,) lie, by the overlap rule.

    count: how many features each cell has had; stamp: number + 1 of the last, where lines and touched cells
    are drawn; both (rows, columns), 0 at first. A feature counts once in a cell.
    """
    rows, width = out.shape
    ends, columns = np.zeros(rows + 1, np.int64), np.empty(64, np.int64)
    for n in range(kinds.size):
        part = edges[starts[n] : starts[n + 1]]
        if kinds[n] == INSIDE or kinds[n] == TOUCHED:
            first_row, last_row, columns = _crossings(part, top, rows, ends, columns)
            low = 0
            for r in range(first_row, last_row):
                high = ends[r]
                ends[r] = 0
                ascend(columns, columns[:0], low, high)
                for k in range(low, high - 1, 2):
                    first, last = max(columns[k] - left, 0), min(columns[k + 1] - left, width)
                    for c in range(first, last):
                        if kinds[n] == INSIDE:  # none has it twice
                            _mix(values[n], rule, r, c, out, count)
                        else:
                            _put(n, values[n], rule, r, c, out, count, stamp)
                low = high
        if kinds[n] != INSIDE:
            for k in range(part.shape[0]):
                _follow(part[k], kinds[n] == THIN, n, values[n], rule, top, left, out, count, stamp)


@kernel
def paint(edges, starts, values, top, left, out, known):  # type: ignore[no-untyped-def]
    """Paint polygons one over the other: values (n,) into out (rows, columns) of their type, 1 into known."""
    rows, width = out.shape
    ends, columns = np.zeros(rows + 1, np.int64), np.empty(64, np.int64)
    for n in range(values.size):
        first_row, last_row, columns = _crossings(edges[starts[n] : starts[n + 1]], top, rows, ends, columns)
        low = 0
        for r in range(first_row, last_row):
            high = ends[r]
            ends[r] = 0
            ascend(columns, columns[:0], low, high)
            for k in range(low, high - 1, 2):
                first, last = max(columns[k] - left, 0), min(columns[k + 1] - left, width)
                for c in range(first, last):
                    out[r, c] = values[n]
                for c in range(first, last):
                    known[r, c] = 1
            low = high


@part_of_kernels
def _crossings(edges, top, rows, ends, columns):  # type: ignore[no-untyped-def]
    """First columns after each crossing of an edge with the middle of a row, row by row.

    ends (rows + 1,), zeros, is filled with where those of each row end in columns, which grows if it has to.
    Returns the first row, the one after the last, and columns.
    """
    first_row, last_row, total = rows, 0, 0
    for k in range(edges.shape[0]):
        first, last = _rows_of(edges[k], top, rows)
        if first < last:
            first_row, last_row = min(first_row, first), max(last_row, last)
            total += last - first
            for r in range(first, last):
                ends[r] += 1
    if total > columns.size:
        columns = np.empty(2 * total, np.int64)
    before = 0
    for r in range(first_row, last_row):
        before, ends[r] = before + ends[r], before
    for k in range(edges.shape[0]):
        x0, y0, x1, y1 = edges[k]
        if y0 > y1:  # the same numbers whichever way a shared edge runs
            x0, y0, x1, y1 = x1, y1, x0, y0
        first, last = _rows_of(edges[k], top, rows)
        for r in range(first, last):
            x = x0 + (r + top + 0.5 - y0) * (x1 - x0) / (y1 - y0)
            columns[ends[r]] = math.ceil(x - 0.5)
            ends[r] += 1
    return first_row, last_row, columns


@part_of_kernels
def _rows_of(edge, top, rows):  # type: ignore[no-untyped-def]
    """Rows of the block whose middles an edge passes, its lower end included."""
    low, high = min(edge[1], edge[3]), max(edge[1], edge[3])
    return max(math.ceil(low - 0.5) - top, 0), min(math.ceil(high - 0.5) - top, rows)


@part_of_kernels
def _follow(edge, thin, n, value, rule, top, left, out, count, stamp):  # type: ignore[no-untyped-def]
    """Put a value into the cells along an edge: all it runs through, or of a thin line one for each step."""
    x0, y0, x1, y1 = edge[0] - left, edge[1] - top, edge[2] - left, edge[3] - top
    rows, columns = out.shape
    low, high = _inside(x0, x1, columns, 0.0, 1.0)
    low, high = _inside(y0, y1, rows, low, high)
    if low > high:
        return
    if thin:
        steps = math.ceil(max(abs(x1 - x0), abs(y1 - y0)))
        for k in range(math.floor(low * steps), math.ceil(high * steps) + 1):
            share = min(k / steps, 1.0) if steps else 0.0
            r, c = math.floor(y0 + share * (y1 - y0)), math.floor(x0 + share * (x1 - x0))
            if 0 <= r < rows and 0 <= c < columns:
                _put(n, value, rule, r, c, out, count, stamp)
        return
    share = low
    while True:
        x, y = x0 + share * (x1 - x0), y0 + share * (y1 - y0)
        across, along = _next(x0, x1, share), _next(y0, y1, share)
        after = min(across, along, high)
        if abs(across - along) * max(abs(x1 - x0), abs(y1 - y0)) < ON_A_CORNER:
            after = min(max(across, along), high)
        middle = (share + after) / 2
        r, c = math.floor(y0 + middle * (y1 - y0)), math.floor(x0 + middle * (x1 - x0))
        if after <= share:
            r, c = math.floor(y), math.floor(x)
        if 0 <= r < rows and 0 <= c < columns:
            _put(n, value, rule, r, c, out, count, stamp)
        if after >= high or after <= share:
            return
        share = after


@part_of_kernels
def _inside(a, b, size, low, high):  # type: ignore[no-untyped-def]
    """The shares of an edge from a to b between `low` and `high` that lie within 0 and size."""
    if a == b:
        return (low, high) if 0 <= a < size else (1.0, 0.0)
    one, other = (0.0 - a) / (b - a), (size - a) / (b - a)
    return max(low, min(one, other)), min(high, max(one, other))


@part_of_kernels
def _next(a, b, share):  # type: ignore[no-untyped-def]
    """The share at which an edge from a to b next meets a line between cells."""
    if a == b:
        return 2.0
    here = a + share * (b - a)
    line = math.floor(here) + 1.0 if b > a else math.ceil(here) - 1.0
    found = (line - a) / (b - a)
    if found <= share:  # rounding left it on the line
        found = (line + (1.0 if b > a else -1.0) - a) / (b - a)
    return found


@part_of_kernels
def _put(n, value, rule, r, c, out, count, stamp):  # type: ignore[no-untyped-def]
    if stamp[r, c] != n + 1:
        stamp[r, c] = n + 1
        _mix(value, rule, r, c, out, count)


@part_of_kernels
def _mix(value, rule, r, c, out, count):  # type: ignore[no-untyped-def]
    seen = count[r, c]
    count[r, c] = seen + 1
    if seen == 0 or rule == LAST:
        out[r, c] = value
    elif rule == MIN:
        out[r, c] = min(out[r, c], value)
    elif rule == MAX:
        out[r, c] = max(out[r, c], value)
    elif rule in (SUM, MEAN):
        out[r, c] += value


@kernel
def covered(edges, top, left, out):  # type: ignore[no-untyped-def]
    """Add to out (rows, columns) what share of each cell lies inside rings: exact areas.

    Rings are turned so that they run with the inside on one side. Each edge adds the area between itself
    and the right end of the cells it passes; sums along the rows make it the area inside.
    """
    rows, columns = out.shape
    sums = np.zeros((rows, columns + 1))
    for k in range(edges.shape[0]):
        x0, y0, x1, y1 = edges[k, 0] - left, edges[k, 1] - top, edges[k, 2] - left, edges[k, 3] - top
        if y0 == y1:
            continue
        sign = 1.0
        if y0 > y1:
            x0, y0, x1, y1, sign = x1, y1, x0, y0, -1.0
        for r in range(max(math.floor(y0), 0), min(math.ceil(y1), rows)):
            low, high = max(y0, r), min(y1, r + 1)
            if high > low:
                slope = (x1 - x0) / (y1 - y0)
                ends = x0 + (low - y0) * slope, x0 + (high - y0) * slope
                _spread(ends[0], ends[1], sign * (high - low), sums[r])
    for r in range(rows):
        total = 0.0
        for c in range(columns):
            total += sums[r, c]
            out[r, c] += total


@part_of_kernels
def _spread(a, b, height, row):  # type: ignore[no-untyped-def]
    """Share out `height` of an edge from a to b among the cells of a row it passes."""
    left, right, last = min(a, b), max(a, b), row.size - 1
    if right <= 0.0:
        row[0] += height
        return
    if left >= last:
        return
    length = right - left
    first = math.floor(left)
    for c in range(max(first, -1), min(math.ceil(right), last) if length > 0 else first + 1):
        part_left, part_right = max(left, c), min(right, c + 1.0)
        if c == -1:
            part_left = left
        share = height * (part_right - part_left) / length if length > 0 else height
        if c == -1:
            part_right = min(right, 0.0)
            row[0] += height * (part_right - left) / length if length > 0 else height
            continue
        middle = (part_left + part_right) / 2 - c
        row[c] += share * (1.0 - middle)
        row[c + 1] += share * middle
