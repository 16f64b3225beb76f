"""Classify parts of a surface by their outlines: raised on all sides, or falling on two opposite sides.

A step is an int8 for each pair of neighbouring cells, along rows and down columns, (rows, columns): 1 if the
second cell is higher, -1 if it is lower, 0 if the surface continues without a step.
"""

from __future__ import annotations

import numpy as np

from zembrel.compiling import kernel, part_of_kernels
from zembrel.raster.kernels.regions import root_of

NONE, DOUBTFUL, RAISED = 0, 1, 2
_OUT = -2  # marks a step that no list contains
_DOUBT = 1.0  # metres; lower parts are never doubtful
_EASE = 1.5  # an edge rises by more than this times the slope: the lowest point is anywhere in its cell


@part_of_kernels
def _height(heights, i, j, otherwise):  # type: ignore[no-untyped-def]
    rows, columns = heights.shape
    return heights[i, j] if 0 <= i < rows and 0 <= j < columns else otherwise


@part_of_kernels
def _step(heights, sources, at, to, limits):  # type: ignore[no-untyped-def]
    """Return the step from one cell to its neighbour: 1, 0 or -1."""
    (i, j), (m, n), (step, steep, sharp) = at, to, limits
    rise = heights[m, n] - heights[i, j]
    down, across = m - i, n - j
    if rise < 0:
        i, j, m, n, down, across = m, n, i, j, -down, -across
    slope = heights[i, j] - _height(heights, i - down, j - across, heights[i, j])
    if sharp:
        slope = _EASE * max(slope, _height(heights, m + down, n + across, heights[m, n]) - heights[m, n])
        steep *= _EASE
    away = np.hypot(sources[0, i, j] - sources[0, m, n], sources[1, i, j] - sources[1, m, n])
    if abs(rise) - min(max(slope, 0.0), steep) * max(away, 1.0) <= step:
        return 0
    return 1 if rise > 0 else -1


@kernel
def steps(heights, sources, limits):  # type: ignore[no-untyped-def]
    """Find the steps of a surface (rows, columns), in metres: rises that exceed the slope around them.

    sources (2, rows, columns): row and column of the known cell from which each cell has its value; limits:
    the least rise of a step in metres, the steepest rise of the ground from cell to cell, and whether the
    slope above the step counts as well as the slope below. Returns steps along rows and down columns, int8.
    """
    rows, columns = heights.shape
    along, down = np.zeros((rows, columns), np.int8), np.zeros((rows, columns), np.int8)
    for i in range(rows):
        for j in range(columns):
            if j + 1 < columns:
                along[i, j] = _step(heights, sources, (i, j), (i, j + 1), limits)
            if i + 1 < rows:
                down[i, j] = _step(heights, sources, (i, j), (i + 1, j), limits)
    return along, down


@part_of_kernels
def _towards(along, down, i, j, side):  # type: ignore[no-untyped-def]
    """Return the index of a neighbour, or -1, and the step to it."""
    rows, columns = along.shape
    cell = i * columns + j
    if side == 0:
        return (cell + 1, along[i, j]) if j + 1 < columns else (-1, 0)
    if side == 1:
        return (cell - 1, -along[i, j - 1]) if j > 0 else (-1, 0)
    if side == 2:
        return (cell + columns, down[i, j]) if i + 1 < rows else (-1, 0)
    return (cell - columns, -down[i - 1, j]) if i > 0 else (-1, 0)


@part_of_kernels
def _judged(counts, cell, residue):  # type: ignore[no-untyped-def]
    """Return the kind of a part from its counts: cells, sides without a step, steps up, and steps down."""
    area, smooth, ups, downs = counts[cell, 0], counts[cell, 1], counts[cell, 2], counts[cell, 3]
    outline, rest = smooth + ups + downs, smooth + downs
    if ups > 0 and rest * outline <= area:  # of a square, a quarter of a side
        return RAISED
    return DOUBTFUL if residue > _DOUBT and ups > 0 and 2 * rest <= outline else NONE


@part_of_kernels
def _inner(steps_of, parts, top, other):  # type: ignore[no-untyped-def]
    """Count the steps up and down between two parts from the list of the first part."""
    along, down = steps_of
    tops, following, heads = parts[0], parts[4], parts[5]
    columns = along.shape[1]
    ups = downs = 0
    entry = heads[top]
    while entry >= 0:
        cell, side = entry // 4, entry % 4
        beside, _ = _towards(along, down, cell // columns, cell % columns, side)
        if tops[beside] >= 0 and root_of(tops, beside) == other:
            back = following[4 * beside + (side ^ 1)] != _OUT  # the other part counts the step, too
            ups += 1
            downs += 1 if back else 0
        entry = following[entry]
    return ups, downs


@part_of_kernels
def _joined(steps_of, parts, cell, top):  # type: ignore[no-untyped-def]
    """Join a part to the part of a cell. Steps between the two no longer belong to an outline."""
    tops, below, counts, _, following, heads, tails = parts
    fewer, more = cell, top
    if counts[cell, 2] + counts[cell, 3] > counts[top, 2] + counts[top, 3]:
        fewer, more = top, cell
    ups, downs = _inner(steps_of, parts, fewer, more)
    tops[top] = below[top] = cell
    for kind in range(4):
        counts[cell, kind] += counts[top, kind]
    counts[cell, 2] -= ups
    counts[cell, 3] -= downs
    if heads[top] >= 0:
        if heads[cell] < 0:
            heads[cell] = heads[top]
        else:
            following[tails[cell]] = heads[top]
        tails[cell] = tails[top]


@part_of_kernels
def _entered(steps_of, parts, cell):  # type: ignore[no-untyped-def]
    """Add a cell, and join the parts that it touches without a step."""
    along, down = steps_of
    tops, _, counts, kinds, following, heads, tails = parts
    i, j = cell // along.shape[1], cell % along.shape[1]
    tops[cell], counts[cell, 0] = cell, 1
    for side in range(4):
        other, step = _towards(along, down, i, j, side)
        if other < 0 or step == 0:
            continue
        if step > 0 and tops[other] >= 0 and kinds[root_of(tops, other)] == RAISED:
            continue  # a step up to a raised part does not count
        counts[cell, 2 if step < 0 else 3] += 1
        entry = 4 * cell + side
        following[entry] = heads[cell]
        tails[cell] = entry if heads[cell] < 0 else tails[cell]
        heads[cell] = entry
    for side in range(4):
        other, step = _towards(along, down, i, j, side)
        if other < 0 or step != 0:
            continue
        if tops[other] < 0:
            counts[cell, 1] += 1
            continue
        top = root_of(tops, other)
        if top != cell:
            _joined(steps_of, parts, cell, top)
        counts[cell, 1] -= 1


@kernel
def raised(residue, order, along, down):  # type: ignore[no-untyped-def]
    """Classify the parts of a surface at every height by their outlines.

    residue (rows, columns): metres above an opening of the surface; order (n,): cells to classify, highest
    residue first. Parts grow from the top downwards (L. Najman and M. Couprie, "Building the component
    tree in quasi-linear time", IEEE Transactions on Image Processing 15(11), 2006). Returns kinds (rows,
    columns), uint8: RAISED in parts that step up on nearly all of their outline, DOUBTFUL in parts that step
    up on at least half of it.
    """
    rows, columns = residue.shape
    size = rows * columns
    tops, below = np.full(size, -1, np.int32), np.full(size, -1, np.int32)
    counts, kinds = np.zeros((size, 4), np.int32), np.zeros(size, np.uint8)
    following = np.full(4 * size, _OUT, np.int32)  # linked lists of the steps of each part
    heads, tails = np.full(size, -1, np.int32), np.full(size, -1, np.int32)
    parts = tops, below, counts, kinds, following, heads, tails
    for cell in order:
        _entered((along, down), parts, cell)
        kinds[cell] = _judged(counts, cell, residue[cell // columns, cell % columns])
    for number in range(len(order) - 1, -1, -1):
        cell = order[number]
        if below[cell] >= 0 and kinds[below[cell]] > kinds[cell]:
            kinds[cell] = kinds[below[cell]]
    return kinds.reshape(rows, columns)


@part_of_kernels
def _straight(along, down, at, to):  # type: ignore[no-untyped-def]
    """Return the step to a neighbour in the same row or column."""
    (i, j), (m, n) = at, to
    if i == m:
        return along[i, j] if n > j else -along[i, n]
    return down[i, j] if m > i else -down[m, j]


@part_of_kernels
def _stepped(along, down, at, to):  # type: ignore[no-untyped-def]
    """Return the step to one of eight neighbours. Across a corner, a step down on either side wins."""
    (i, j), (m, n) = at, to
    if m == i or n == j:
        return _straight(along, down, at, to)
    lowest, highest = 0, 0
    for corner in ((m, j), (i, n)):
        first = _straight(along, down, at, corner)
        step = first if first != 0 else _straight(along, down, corner, to)
        lowest, highest = min(lowest, step), max(highest, step)
    return lowest if lowest < 0 else highest


@kernel
def to_falls(heights, along, down, move, fall):  # type: ignore[no-untyped-def]
    """Return the distance in cells from each cell to the first fall of `fall` metres or more.

    move: direction as rows and columns, each -1, 0 or 1. Returns (rows, columns), int16; -1 where another
    step or the border comes first.
    """
    rows, columns = heights.shape
    found = np.full((rows, columns), -1, np.int16)
    for count_i in range(rows):
        i = rows - 1 - count_i if move[0] > 0 else count_i  # from the far end of the direction
        for count_j in range(columns):
            j = columns - 1 - count_j if move[1] > 0 else count_j
            m, n = i + move[0], j + move[1]
            if not (0 <= m < rows and 0 <= n < columns):
                continue
            step = _stepped(along, down, (i, j), (m, n))
            if step < 0 and heights[i, j] - heights[m, n] >= fall:
                found[i, j] = 0
            elif step == 0 and found[m, n] >= 0:
                found[i, j] = found[m, n] + 1
    return found
