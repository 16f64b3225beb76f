"""Regions of equal cells and their outlines, in one sweep over the rows, however they are cut into strips.

Outlines run along the edges of cells with the region on the right (rows grow downwards), from corner to
corner. Each vertex of the lattice joins what comes in along its four edges to what goes out; only what is
open at the sweep's row is kept. Labels are joined by union and find: R. E. Tarjan, "Efficiency of a good but
not linear set union algorithm", J. ACM 22 (1975).
"""

from __future__ import annotations

import numpy as np

from zembrel.compiling import kernel, part_of_kernels

NORTH, EAST, SOUTH, WEST = range(4)
NONE = -1
X, Y, NEXT = range(3)  # of a corner; Y is four times the row, plus the marks
MEETS, FIXED = 1, 2  # marks: four edges meet there; three or four do
NODE, OTHER = range(2)  # of an open end of an outline: its corner, and the other end
# By the edges that meet at a corner of the lattice (bit 0 north to bit 3 west): outlines come in along `ways`
# and go out by `outs`, the next edge round the cells.
_NEXT = {
    NORTH: (WEST, SOUTH, EAST), EAST: (NORTH, WEST, SOUTH),
    SOUTH: (EAST, NORTH, WEST), WEST: (SOUTH, EAST, NORTH),
}  # fmt: skip
_PASSES = [
    [(way, next(out for out in _NEXT[way] if mask >> out & 1)) for way in range(4) if mask >> way & 1]
    if mask & (mask - 1)
    else []
    for mask in range(16)
]
_FIRST = np.cumsum([0, *(len(passes) for passes in _PASSES)])
_WAYS = np.array([way for passes in _PASSES for way, _ in passes])
_OUTS = np.array([out for passes in _PASSES for _, out in passes])
LABELS, NODES, FREE, RINGS = range(4)  # of what is in use


@kernel
def root_of(parents, label):  # type: ignore[no-untyped-def]
    """The label that stands for the region of `label`."""
    while parents[label] != label:
        parents[label] = parents[parents[label]]
        label = parents[label]
    return label


@part_of_kernels
def _join(parents, one, other):  # type: ignore[no-untyped-def]
    one, other = root_of(parents, one), root_of(parents, other)
    if one < other:
        parents[other] = one
    else:
        parents[one] = other
    return min(one, other)


@kernel
def count_runs(cells, known):  # type: ignore[no-untyped-def]
    """How many runs the rows of cells (rows, columns) have at most; known: the same, or (0, 0) for all."""
    count = cells.shape[0]
    some = known.size > 0
    for r in range(cells.shape[0]):
        row = cells[r]
        for x in range(1, row.size):
            count += row[x] != row[x - 1]
        if some:
            mark = known[r]
            for x in range(1, mark.size):
                count += mark[x] != mark[x - 1]
    return count


@part_of_kernels
def _runs(row, mark, at, values, labels):  # type: ignore[no-untyped-def]
    """Where the runs of a row begin and end, their values, and 0 or NONE for unknown ones; how many."""
    some, width, n, x = mark.size > 0, row.size, 0, 0
    while x < width:
        value, sound = row[x], (not some) or mark[x]
        at[n], values[n], labels[n] = x, value, 0 if sound else NONE
        n += 1
        x += 1
        if some:
            while x < width and mark[x] == sound and (row[x] == value or not sound):
                x += 1
        else:
            while x < width and row[x] == value:
                x += 1
    at[n] = width
    return n


@part_of_kernels
def _label(above, n_above, below, n, diagonal, regions, free):  # type: ignore[no-untyped-def]
    """Give each run below the label of the runs it meets above, or a new one; returns the next free label."""
    a_at, a_values, a_labels = above
    at, values, labels = below
    parents, counts, held = regions
    reach = 1 if diagonal else 0
    first = 0
    for k in range(n):
        if labels[k] == NONE:
            continue
        label = NONE
        while first < n_above and a_at[first + 1] + reach <= at[k]:
            first += 1
        other = first
        while other < n_above and a_at[other] < at[k + 1] + reach:
            if a_labels[other] != NONE and a_values[other] == values[k]:
                near = a_labels[other]
                label = root_of(parents, near) if label == NONE else _join(parents, label, near)
            other += 1
        if label == NONE:
            label = free
            parents[label], counts[label], held[label] = label, 0, values[k]
            free += 1
        counts[label] += at[k + 1] - at[k]
        labels[k] = label
    return free


@kernel
def label_rows(cells, known, diagonal, above, n_above, regions, free, labels):  # type: ignore[no-untyped-def]
    """Fill labels, (rows, columns) like cells, with NONE where nothing is known; arguments as for `sweep`.

    Returns the next free label, how many runs the last row has, and its runs.
    """
    width = cells.shape[1]
    above = (
        _with_room(above[0], width + 2),
        _with_room(above[1], width + 2),
        _with_room(above[2], width + 2),
    )
    below = (np.empty(width + 2, np.int64), np.empty(width + 2, np.int64), np.empty(width + 2, np.int64))
    nothing = np.empty(0, np.bool_)
    for r in range(cells.shape[0]):
        n = _runs(cells[r], known[r] if known.size else nothing, below[0], below[1], below[2])
        free = _label(above, n_above, below, n, diagonal, regions, free)
        for k in range(n):
            labels[r, below[0][k] : below[0][k + 1]] = below[2][k]
        above, below, n_above = below, above, n
    return free, n_above, above


@part_of_kernels
def _with_room(values, room):  # type: ignore[no-untyped-def]
    wider = np.empty(room, np.int64)
    for n in range(values.size):
        wider[n] = values[n]
    return wider


@kernel
def sweep(cells, known, ways, y, above, n_above, ends, regions, tally, store, rings):  # type: ignore[no-untyped-def]
    """Sweep over rows of cells (rows, columns), of which y lie above.

    ways: whether cells that meet at a corner are joined, and whether outlines keep the corners where others
    leave them; above: where the runs of the row above begin, their values and labels; ends: which open ends
    of outlines come down (heads) and go up (tails) at each of those places; regions: parents, cells and
    values of labels;
    store: open ends (e, 2) and a stack of those that are free, corners (n, 3), and which one lies across from
    each; rings: (m, 2), a corner and a label of each closed outline; tally: how much is in use, by the names
    above. Returns how many runs there are, and the row that is above now with its ends.
    """
    width = cells.shape[1]
    room = width + 2
    above = (_with_room(above[0], room), _with_room(above[1], room), _with_room(above[2], room))
    ends = (_with_room(ends[0], room), _with_room(ends[1], room))
    below = (np.empty(room, np.int64), np.empty(room, np.int64), np.empty(room, np.int64))
    new_ends = (np.empty(room, np.int64), np.empty(room, np.int64))
    nothing = np.empty(0, np.bool_)
    for r in range(cells.shape[0]):
        n = _runs(cells[r], known[r] if known.size else nothing, below[0], below[1], below[2])
        tally[LABELS] = _label(above, n_above, below, n, ways[0], regions, tally[LABELS])
        _trace(y + r, ways[1], above, n_above, below, n, ends, new_ends, store, rings, tally)
        above, below, n_above = below, above, n
        ends, new_ends = new_ends, ends
    return n_above, above, ends


@part_of_kernels
def _trace(y, junctions, above, n_above, below, n_below, ends, new_ends, store, rings, tally):  # type: ignore[no-untyped-def]
    """Join outlines along the lattice row y between two rows of runs.

    Parts of a region that meet at a corner alone have outlines of their own. Where runs begin, outlines
    cross the row; x goes from one such place to the next, and i and j with it:

            run i - 1   |   run i            above: heads, tails
                    a   N   b
        come, go -- W --x-- E -- new_come, new_go
                    c   S   d
            run j - 1   |   run j            below: new_heads, new_tails
    """
    a_at, a_values, a_labels = above
    b_at, b_values, b_labels = below
    heads, tails = ends
    new_heads, new_tails = new_ends
    open_ends, stack, nodes, across = store
    top, free, found = tally[NODES], tally[FREE], tally[RINGS]
    labels = np.empty(4, np.int64)  # of the cells left of what comes in along each edge
    come, go = np.full(4, NONE), np.full(4, NONE)  # open ends by the edge they come in and go out along
    new_come, new_go = np.full(4, NONE), np.full(4, NONE)
    seen = np.empty(4, np.int64)
    i, j, last = 0, 0, a_at[n_above]
    while True:
        x = min(a_at[i], b_at[j])
        at_a, at_b = a_at[i] == x, b_at[j] == x
        i2, j2 = i if at_a else i - 1, j if at_b else j - 1  # runs on the right; on the left i - 1 and j - 1
        label_a = a_labels[i - 1] if i > 0 else NONE
        label_b = a_labels[i2] if i2 < n_above else NONE
        label_c = b_labels[j - 1] if j > 0 else NONE
        label_d = b_labels[j2] if j2 < n_below else NONE
        a, b, c, d = label_a != NONE, label_b != NONE, label_c != NONE, label_d != NONE
        west = (a != c) or (a and a_values[i - 1] != b_values[j - 1])
        east = (b != d) or (b and a_values[i2] != b_values[j2])
        if at_a and at_b and not west and not east:  # two runs below two that are the same
            new_heads[j], new_tails[j] = heads[i], tails[i]
            if x == last:
                break
            come[WEST], go[WEST] = NONE, NONE
            i, j = i + 1, j + 1
            continue
        north, south = at_a and (a or b), at_b and (c or d)
        mask = north | east << 1 | south << 2 | west << 3
        edges = _FIRST[mask + 1] - _FIRST[mask]
        if at_a:
            come[NORTH], go[NORTH] = heads[i], tails[i]
        labels[NORTH], labels[EAST], labels[SOUTH], labels[WEST] = label_a, label_b, label_d, label_c
        new_come[EAST], new_go[EAST], new_come[SOUTH], new_go[SOUTH] = NONE, NONE, NONE, NONE
        for k in range(_FIRST[mask], _FIRST[mask + 1]):
            way, out = _WAYS[k], _OUTS[k]
            if labels[way] == NONE:
                seen[way] = NONE
                continue
            from_open, to_open = way % 3 == 0, out % 3 == 0  # north and west have been seen
            head, tail, node = come[way], go[out], top
            turns = (way ^ out) & 1 or (junctions and edges > 2)
            if turns:
                top += 1
                nodes[node, X], nodes[node, Y] = x, 4 * y + (mask == 15) + 2 * (edges > 2)
                if mask == 15:
                    seen[way], across[node] = node, NONE
                    if way >= SOUTH and seen[way - 2] != NONE:
                        across[node], across[seen[way - 2]] = seen[way - 2], node
            if from_open:
                if to_open:  # two ends meet
                    nodes[open_ends[head, NODE], NEXT], nodes[node, NEXT] = node, open_ends[tail, NODE]
                    first, end = open_ends[head, OTHER], open_ends[tail, OTHER]
                    if first == tail:
                        rings[found, 0], rings[found, 1] = node, labels[way]
                        found += 1
                    else:
                        open_ends[first, OTHER], open_ends[end, OTHER] = end, first
                    stack[free], stack[free + 1] = head, tail
                    free += 2
                    continue
                if turns:
                    nodes[open_ends[head, NODE], NEXT] = node
                    open_ends[head, NODE] = node
                new_come[out] = head
            elif to_open:
                if turns:
                    nodes[node, NEXT] = open_ends[tail, NODE]
                    open_ends[tail, NODE] = node
                new_go[way] = tail
            else:  # a new outline begins here
                free -= 2
                head, tail = int(stack[free]), int(stack[free + 1])
                open_ends[head, NODE], open_ends[head, OTHER] = node, tail
                open_ends[tail, NODE], open_ends[tail, OTHER] = node, head
                new_come[out], new_go[way] = head, tail
        if at_b:
            new_heads[j], new_tails[j] = new_come[SOUTH], new_go[SOUTH]
        if x == last:
            break
        come[WEST], go[WEST] = new_come[EAST], new_go[EAST]
        i += at_a
        j += at_b
    tally[NODES], tally[FREE], tally[RINGS] = top, free, found


@kernel
def settle(parents):  # type: ignore[no-untyped-def]
    """Point each label (n,) at the one that stands for its region; those come first."""
    for label in range(parents.size):
        parents[label] = parents[parents[label]]
