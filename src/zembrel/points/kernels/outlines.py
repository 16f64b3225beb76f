"""Parts of a surface by their outlines: what steps up all around, and what falls away on both sides.

Steps are whole numbers, one for each pair of neighbours, along rows and along columns (rows, columns): 1
where the further cell is higher, -1 where it is lower, 0 where the surface goes on between the two.
"""

from __future__ import annotations

import numpy as np

from zembrel.compiling import kernel, part_of_kernels

NONE, DOUBTFUL, RAISED = 0, 1, 2
_OUT = -2  # of a step that is in no list
_DOUBT = 1.0  # metres that a part stands out at least, to be doubtful
_EASE = (
    1.5  # times the slope around that an edge has to pass: the lowest points of cells lie anywhere in them
)


@part_of_kernels
def _height(heights, i, j, otherwise):  # type: ignore[no-untyped-def]
    rows, columns = heights.shape
    return heights[i, j] if 0 <= i < rows and 0 <= j < columns else otherwise


@part_of_kernels
def _step(heights, sources, at, to, limits):  # type: ignore[no-untyped-def]
    """How the surface steps from one cell to its neighbour: 1, 0 or -1."""
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
    """Find where a surface (rows, columns), in metres, steps: it rises by more than its slope explains.

    sources (2, rows, columns): row and column of the known cell whose value each cell has; limits: metres of
    a step, of the steepest ground from one cell to the next, and whether a step is an edge, which the slope
    above it does not explain either. Returns steps along rows and along columns, int8.
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
    """The number of a neighbour, -1 for none, and how the surface steps to it."""
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
def _top(parents, cell):  # type: ignore[no-untyped-def]
    """The part that a cell belongs to by now."""
    while parents[cell] != cell:
        parents[cell] = parents[parents[cell]]
        cell = parents[cell]
    return cell


@part_of_kernels
def _judged(counts, cell, residue):  # type: ignore[no-untyped-def]
    """What a part is by its area and outline: cells, sides where it goes on, steps up, and steps down."""
    area, smooth, ups, downs = counts[cell, 0], counts[cell, 1], counts[cell, 2], counts[cell, 3]
    outline, rest = smooth + ups + downs, smooth + downs
    if ups > 0 and rest * outline <= area:  # of a square, a quarter of a side
        return RAISED
    return DOUBTFUL if residue > _DOUBT and ups > 0 and 2 * rest <= outline else NONE


@part_of_kernels
def _inner(steps_of, parts, top, other):  # type: ignore[no-untyped-def]
    """Steps up, and down, between two parts: those listed for the first whose other side is in the second."""
    along, down = steps_of
    tops, following, heads = parts[0], parts[4], parts[5]
    columns = along.shape[1]
    ups = downs = 0
    entry = heads[top]
    while entry >= 0:
        cell, side = entry // 4, entry % 4
        beside, _ = _towards(along, down, cell // columns, cell % columns, side)
        if tops[beside] >= 0 and _top(tops, beside) == other:
            back = following[4 * beside + (side ^ 1)] != _OUT  # whether the other side counts it, too
            ups += 1
            downs += 1 if back else 0
        entry = following[entry]
    return ups, downs


@part_of_kernels
def _joined(steps_of, parts, cell, top):  # type: ignore[no-untyped-def]
    """Join a part to that of a cell; steps between the two are steps of the outline no more."""
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
    """Enter a cell, and join to it the parts that it touches without a step."""
    along, down = steps_of
    tops, _, counts, kinds, following, heads, tails = parts
    i, j = cell // along.shape[1], cell % along.shape[1]
    tops[cell], counts[cell, 0] = cell, 1
    for side in range(4):
        other, step = _towards(along, down, i, j, side)
        if other < 0 or step == 0:
            continue
        if step > 0 and tops[other] >= 0 and kinds[_top(tops, other)] == RAISED:
            continue  # what is raised beside it says nothing
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
        top = _top(tops, other)
        if top != cell:
            _joined(steps_of, parts, cell, top)
        counts[cell, 1] -= 1


@kernel
def raised(residue, order, along, down):  # type: ignore[no-untyped-def]
    """Judge the parts of a surface that stand out, at every height, by their outlines.

    residue (rows, columns): metres above an opening of the surface; order (n,): the cells that stand out,
    highest first. Parts are joined from the top downwards (L. Najman and M. Couprie, "Building the component
    tree in quasi-linear time", IEEE Transactions on Image Processing 15(11), 2006). Returns kinds (rows,
    columns), uint8: RAISED in parts that step up nearly all around, DOUBTFUL where that is so of half of the
    outline at least.
    """
    rows, columns = residue.shape
    size = rows * columns
    tops, below = np.full(size, -1, np.int32), np.full(size, -1, np.int32)
    counts, kinds = np.zeros((size, 4), np.int32), np.zeros(size, np.uint8)
    following = np.full(4 * size, _OUT, np.int32)  # lists of the steps of each part: of a cell and a side
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
    """How the surface steps to a neighbour in the same row or column."""
    (i, j), (m, n) = at, to
    if i == m:
        return along[i, j] if n > j else -along[i, n]
    return down[i, j] if m > i else -down[m, j]


@part_of_kernels
def _stepped(along, down, at, to):  # type: ignore[no-untyped-def]
    """How the surface steps to one of eight neighbours: across a corner down if either way round does."""
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
    """Count the cells on the way from each to where the surface falls by `fall` metres or more.

    move: rows and columns of a way, each -1, 0 or 1. Returns counts (rows, columns), int16; -1 where the
    surface steps otherwise first, or goes on to the rim.
    """
    rows, columns = heights.shape
    found = np.full((rows, columns), -1, np.int16)
    for count_i in range(rows):
        i = rows - 1 - count_i if move[0] > 0 else count_i  # the next cell on the way comes first
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
