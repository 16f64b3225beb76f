"""Lines of one level through a surface, in one sweep over the rows, however they are cut into strips.

Marching squares between the middles of cells: W. E. Lorensen and H. E. Cline, "Marching cubes", Computer
Graphics 21 (1987), in two dimensions. Where both diagonals part, the mean of the four corners decides. Lines
run with the higher ground on the left, seen with the rows downwards.

NaN is nothing, and lines end there. Minus infinity is nothing that lines go around, along the edges of its
cells; they reach a straight edge square to it. With a margin lines pass no middle of a cell, so that those of
one level cross nothing, and those of a higher level lie within those of a lower one.
"""

from __future__ import annotations

import math

import numpy as np

from zembrel.compiling import kernel, part_of_kernels
from zembrel.raster.kernels.squares import BOTTOM, LEFT, RIGHT, TOP, ends_at_nothing, passed, turn

NONE = -1
NODE, OTHER, DEAD, TAIL = range(
    4
)  # of an open end: its point, the other end, whether it goes on, whether it begins
POINTS, FREE, ENDS, LINES, WRITTEN = range(5)  # of what is in use
BLOCK = 32  # columns that are passed at a glance
MOST = 6  # points that a square may make

# From and to which edge lines run, by the corners that lie higher: 1 top left, 2 top right, 4 bottom right,
# 8 bottom left; those of two lines are told apart by the middle.
_ONE = np.full((16, 2), NONE)
for _code, _way in {
    1: (LEFT, TOP), 2: (TOP, RIGHT), 3: (LEFT, RIGHT), 4: (RIGHT, BOTTOM), 6: (TOP, BOTTOM),
    7: (LEFT, BOTTOM), 8: (BOTTOM, LEFT), 9: (BOTTOM, TOP), 11: (BOTTOM, RIGHT), 12: (RIGHT, LEFT),
    13: (RIGHT, TOP), 14: (TOP, LEFT),
}.items():  # fmt: skip
    _ONE[_code] = _way
_TWO = np.full((16, 2, 2, 2), NONE)  # by code and whether the middle is higher
_TWO[5, 0], _TWO[5, 1] = [(LEFT, TOP), (RIGHT, BOTTOM)], [(RIGHT, TOP), (LEFT, BOTTOM)]
_TWO[10, 0], _TWO[10, 1] = [(TOP, RIGHT), (BOTTOM, LEFT)], [(TOP, LEFT), (BOTTOM, RIGHT)]


@kernel
def glances(z):  # type: ignore[no-untyped-def]
    """Lowest and highest value of each row of squares by blocks of columns, (rows - 1, blocks) each."""
    rows, columns = z.shape
    blocks = (columns - 2) // BLOCK + 1
    low, high = np.full((rows - 1, blocks), np.inf), np.full((rows - 1, blocks), -np.inf)
    for r in range(rows - 1):
        for b in range(blocks):
            least, most = np.inf, -np.inf
            for c in range(b * BLOCK, min((b + 1) * BLOCK + 1, columns)):
                for k in range(2):
                    value = z[r + k, c]
                    if value < least:
                        least = value
                    if value > most:
                        most = value
            low[r, b], high[r, b] = least, most
    return low, high


@kernel
def trace(z, level, margin, first, y, low, high, top, store, tally, out):  # type: ignore[no-untyped-def]
    """Follow the lines of `level` through the squares of z (rows, columns) from row `first` on.

    margin: cells that lines keep from middles; y: row of z[0] in the frame; low, high: see `glances`; top:
    open end on the upper edge of each square (columns,); store: points (n, 2), the next of each, a stack of
    free ones, open ends (e, 4) and a stack of free ones; out: points (n, 2) of complete lines, where each
    begins (m + 1,), whether it is closed. Returns the row to go on from when there is more room, or the
    number of rows of squares.
    """
    rows, columns = z.shape
    edges = np.empty(4, np.int64)
    for r in range(first, rows - 1):
        if not _room(MOST * columns, store, tally, out):
            return r
        left = NONE
        for b in range(low.shape[1]):
            if not (low[r, b] <= level < high[r, b]):
                left = NONE
                continue
            for c in range(b * BLOCK, min((b + 1) * BLOCK, columns - 1)):
                z0, z1, z2, z3 = z[r, c], z[r, c + 1], z[r + 1, c + 1], z[r + 1, c]
                code = (z0 > level) | (z1 > level) << 1 | (z2 > level) << 2 | (z3 > level) << 3
                if code == 0 or code == 15:
                    left = NONE
                    continue
                if math.isnan(z0 + z1 + z2 + z3):
                    _end(left, store, tally, out)
                    _end(top[c], store, tally, out)
                    left, top[c] = NONE, NONE
                    continue
                edges[TOP], edges[LEFT], edges[RIGHT], edges[BOTTOM] = top[c], left, NONE, NONE
                square = r, c, y, (z0, z1, z2, z3), level, margin
                if code == 5 or code == 10:
                    ways = _TWO[code, 1 if (z0 + z1 + z2 + z3) / 4 > level else 0]
                    _through(ways[0, 0], ways[0, 1], edges, square, store, tally, out)
                    _through(ways[1, 0], ways[1, 1], edges, square, store, tally, out)
                else:
                    _through(_ONE[code, 0], _ONE[code, 1], edges, square, store, tally, out)
                left, top[c] = edges[RIGHT], edges[BOTTOM]
        _end(left, store, tally, out)
    return rows - 1


@part_of_kernels
def _room(points, store, tally, out):  # type: ignore[no-untyped-def]
    """Whether there is room for so many points, and half as many lines, which a row of squares may make."""
    if tally[POINTS] - tally[FREE] + points > store[0].shape[0]:
        return False
    if tally[LINES] + points // 2 > out[2].size:
        return False
    return tally[WRITTEN] + tally[POINTS] + points <= out[0].shape[0]


@part_of_kernels
def _through(start, goal, edges, square, store, tally, out):  # type: ignore[no-untyped-def]
    """Carry a line through a square from edge `start` to edge `goal`; edges: the open ends along each."""
    after, ends = store[1], store[3]
    come, go = edges[start], edges[goal]
    edges[start], edges[goal] = NONE, NONE
    bend = NONE
    if ends_at_nothing(start, square[3]) or ends_at_nothing(goal, square[3]):
        bend = _placed(turn(start, goal, square), store, tally)
        if come != NONE:
            after[ends[come, NODE]], ends[come, NODE] = bend, bend
        elif go != NONE:
            after[bend], ends[go, NODE] = ends[go, NODE], bend
    if come != NONE and go != NONE:
        _join(come, go, store, tally, out)
    elif come != NONE:
        point = _placed(passed(goal, square), store, tally)
        after[ends[come, NODE]], ends[come, NODE] = point, point
        edges[goal] = come
        _settle(goal, come, edges, store, tally, out)
    elif go != NONE:
        point = _placed(passed(start, square), store, tally)
        after[point], ends[go, NODE] = ends[go, NODE], point
        edges[start] = go
        _settle(start, go, edges, store, tally, out)
    else:
        edges[start], edges[goal] = _begin(start, goal, bend, square, store, tally)
        tail, head = edges[start], edges[goal]
        _settle(start, tail, edges, store, tally, out)
        _settle(goal, head, edges, store, tally, out)


@part_of_kernels
def _join(come, go, store, tally, out):  # type: ignore[no-untyped-def]
    """Let two lines meet: a ring is complete, and so is a line that goes on at neither end."""
    after, ends, free_ends = store[1], store[3], store[4]
    after[ends[come, NODE]] = ends[go, NODE]
    if ends[come, OTHER] == go:
        _write(ends[go, NODE], ends[come, NODE], True, store, tally, out)
    else:
        one, other = ends[come, OTHER], ends[go, OTHER]
        ends[one, OTHER], ends[other, OTHER] = other, one
        if ends[one, DEAD] and ends[other, DEAD]:
            _write(ends[one, NODE], ends[other, NODE], False, store, tally, out)
            _release(one, other, free_ends, tally)
    _release(come, go, free_ends, tally)


@part_of_kernels
def _begin(start, goal, bend, square, store, tally):  # type: ignore[no-untyped-def]
    """The two open ends of a new line of two points, or three if it bends between them."""
    after, ends, free_ends = store[1], store[3], store[4]
    first, last = _placed(passed(start, square), store, tally), _placed(passed(goal, square), store, tally)
    if bend == NONE:
        after[first] = last
    else:
        after[first], after[bend] = bend, last
    tally[ENDS] -= 2
    tail, head = free_ends[tally[ENDS]], free_ends[tally[ENDS] + 1]
    ends[tail, NODE], ends[tail, OTHER], ends[tail, DEAD], ends[tail, TAIL] = first, head, 0, 1
    ends[head, NODE], ends[head, OTHER], ends[head, DEAD], ends[head, TAIL] = last, tail, 0, 0
    return tail, head


@kernel
def finish(top, store, tally, out):  # type: ignore[no-untyped-def]
    """Write the lines that reach the last row."""
    for c in range(top.size):
        _end(top[c], store, tally, out)
        top[c] = NONE
    out[1][tally[LINES]] = tally[WRITTEN]


@part_of_kernels
def _settle(edge, end, edges, store, tally, out):  # type: ignore[no-untyped-def]
    """An end at an edge that has been passed already goes no further."""
    if edge in (TOP, LEFT):
        edges[edge] = NONE
        _end(end, store, tally, out)


@part_of_kernels
def _end(end, store, tally, out):  # type: ignore[no-untyped-def]
    """Let a line end here; write it if its other end does not go on either."""
    if end == NONE:
        return
    ends, free_ends = store[3], store[4]
    other = ends[end, OTHER]
    ends[end, DEAD] = 1
    if ends[other, DEAD]:
        tail, head = (end, other) if ends[end, TAIL] else (other, end)
        _write(ends[tail, NODE], ends[head, NODE], False, store, tally, out)
        _release(end, other, free_ends, tally)


@part_of_kernels
def _release(one, other, free_ends, tally):  # type: ignore[no-untyped-def]
    free_ends[tally[ENDS]], free_ends[tally[ENDS] + 1] = one, other
    tally[ENDS] += 2


@part_of_kernels
def _free(store, tally):  # type: ignore[no-untyped-def]
    """The number of a point that is not in use."""
    if tally[FREE] > 0:
        tally[FREE] -= 1
        return store[2][tally[FREE]]
    tally[POINTS] += 1
    return tally[POINTS] - 1


@part_of_kernels
def _placed(place, store, tally):  # type: ignore[no-untyped-def]
    """The number of a new point at a place."""
    point = _free(store, tally)
    store[0][point, 0], store[0][point, 1] = place
    return point


@part_of_kernels
def _write(first, last, closed, store, tally, out):  # type: ignore[no-untyped-def]
    """Write the line from point `first` to `last`, back to the first if it is closed, and free its points.

    Points that repeat the one before are left out, and so is what runs out and straight back.
    """
    points, after, stack, _, _ = store
    start = tally[WRITTEN]
    at, node = start, first
    while True:
        at = _push(points[node, 0], points[node, 1], start, at, out[0])
        stack[tally[FREE]] = node
        tally[FREE] += 1
        if node == last:
            break
        node = after[node]
    if closed and at > start:
        at = _push(out[0][start, 0], out[0][start, 1], start, at, out[0])
    if at - start < (4 if closed else 2):
        return
    out[1][tally[LINES]], out[2][tally[LINES]] = start, closed
    tally[LINES] += 1
    tally[WRITTEN] = at


@part_of_kernels
def _push(x, y, start, at, out):  # type: ignore[no-untyped-def]
    if at > start and out[at - 1, 0] == x and out[at - 1, 1] == y:
        return at
    if at > start + 1 and out[at - 2, 0] == x and out[at - 2, 1] == y:
        return at - 1
    out[at, 0], out[at, 1] = x, y
    return at + 1
