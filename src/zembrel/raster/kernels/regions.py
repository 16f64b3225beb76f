"""Regions of equal cells and their outlines, in one sweep over the rows, however they are cut into strips.

Outlines run along the edges of cells with the region on the right (rows grow downwards), from corner to
corner. Each vertex of the lattice joins what comes in along its four edges to what goes out; only what is
open at the sweep's row is kept. Labels are joined by union and find: R. E. Tarjan, "Efficiency of a good but
not linear set union algorithm", J. ACM 22 (1975).
"""

from __future__ import annotations

import numpy as np
from numba import njit

NORTH, EAST, SOUTH, WEST = range(4)
NONE = -1


@njit(nogil=True, cache=True)
def root_of(parents, label):  # type: ignore[no-untyped-def]
    """The label that stands for the region of `label`."""
    while parents[label] != label:
        parents[label] = parents[parents[label]]
        label = parents[label]
    return label


@njit(nogil=True, cache=True)
def _join(parents, one, other):  # type: ignore[no-untyped-def]
    one, other = root_of(parents, one), root_of(parents, other)
    if one < other:
        parents[other] = one
    else:
        parents[one] = other
    return min(one, other)


@njit(nogil=True, cache=True)
def label_row(cells, known, above, above_known, above_labels, diagonal, parents, counts, next_label, labels):  # type: ignore[no-untyped-def]
    """Fill labels (columns,) of one row from the row above; NONE where nothing is known.

    parents, counts: of labels, room for as many more as there are columns. Returns the next free label.
    """
    width = cells.size
    for x in range(width):
        labels[x] = NONE
        if not known[x]:
            continue
        label = NONE
        if x > 0 and known[x - 1] and cells[x - 1] == cells[x]:
            label = labels[x - 1]
        for step in range(-1, 2):
            near = x + step
            if (step and not diagonal) or near < 0 or near >= width:
                continue
            if above_known[near] and above[near] == cells[x]:
                other = above_labels[near]
                label = root_of(parents, other) if label == NONE else _join(parents, label, other)
        if label == NONE:
            label = next_label
            parents[label], counts[label] = label, 0
            next_label += 1
        counts[label] += 1
        labels[x] = label
    return next_label


@njit(nogil=True, cache=True)
def trace_row(y, rows, heads, tails, nodes, links, free, rings, found):  # type: ignore[no-untyped-def]
    """Join outlines along the lattice row y between two rows of cells.

    rows: cells, known and labels of the row above and of the one below, each (columns,); heads, tails
    (columns + 1,): open ends of outlines that come down and go up along the edges above, replaced by those
    of the edges below; nodes (n, 3): column and row of corners, and whether four edges meet there; links
    (n, 2): next corner, and at the ends of an open outline its other end; free: first unused node; rings
    (m, 2): a corner and a label of each closed outline; found: how many. Returns free and found. Parts of a
    region that meet at a corner alone have outlines of their own.
    """
    above, above_known, above_labels, below, below_known, below_labels = rows
    width = above.size
    head_west, tail_west = NONE, NONE
    out_of = np.empty(4, np.int64)
    for x in range(width + 1):
        a = x > 0 and above_known[x - 1]
        b = x < width and above_known[x]
        c = x > 0 and below_known[x - 1]
        d = x < width and below_known[x]
        north = (a != b) or (a and b and above[x - 1] != above[x])
        south = (c != d) or (c and d and below[x - 1] != below[x])
        west = (a != c) or (a and c and above[x - 1] != below[x - 1])
        east = (b != d) or (b and d and above[x] != below[x])
        if not (north or south or west or east):
            heads[x], tails[x], head_west, tail_west = NONE, NONE, NONE, NONE
            continue
        meets = north and south and west and east
        # where what comes in along an edge goes out: the next edge that is there, round the cells
        out_of[NORTH] = WEST if west else SOUTH if south else EAST
        out_of[SOUTH] = EAST if east else NORTH if north else WEST
        out_of[EAST] = NORTH if north else WEST if west else SOUTH
        out_of[WEST] = SOUTH if south else EAST if east else NORTH
        head_north, tail_north = heads[x], tails[x]
        head_south, tail_south, head_east, tail_east = NONE, NONE, NONE, NONE
        for way in range(4):
            if way == NORTH:
                there, label = north and a, above_labels[x - 1] if x > 0 else NONE
            elif way == WEST:
                there, label = west and c, below_labels[x - 1] if x > 0 else NONE
            elif way == SOUTH:
                there, label = south and d, below_labels[x] if x < width else NONE
            else:
                there, label = east and b, above_labels[x] if x < width else NONE
            if not there:
                continue
            out = out_of[way]
            straight = (way + 2) % 4 == out
            head = head_north if way == NORTH else head_west if way == WEST else NONE
            tail = tail_north if out == NORTH else tail_west if out == WEST else NONE
            node = NONE
            if not straight:
                node = free
                nodes[free, 0], nodes[free, 1], nodes[free, 2] = x, y, meets
                links[free, 0], links[free, 1] = NONE, free
                free += 1
            if head != NONE and tail != NONE:  # two ends meet
                links[head, 0], links[node, 0] = node, tail
                if links[tail, 1] == head:
                    rings[found, 0], rings[found, 1] = node, label
                    found += 1
                else:
                    first, last = links[head, 1], links[tail, 1]
                    links[first, 1], links[last, 1] = last, first
                continue
            if head != NONE:
                end = head
                if node != NONE:
                    links[head, 0] = node
                    first = links[head, 1]
                    links[node, 1], links[first, 1] = first, node
                    end = node
                if out == SOUTH:
                    head_south = end
                else:
                    head_east = end
                continue
            if tail != NONE:
                end = tail
                if node != NONE:
                    links[node, 0] = tail
                    last = links[tail, 1]
                    links[node, 1], links[last, 1] = last, node
                    end = node
            else:  # a new outline begins here
                end = node
                if out == SOUTH:
                    head_south = node
                else:
                    head_east = node
            if way == SOUTH:
                tail_south = end
            else:
                tail_east = end
        heads[x], tails[x], head_west, tail_west = head_south, tail_south, head_east, tail_east
    return free, found


@njit(nogil=True, cache=True)
def lengths_of(links, starts):  # type: ignore[no-untyped-def]
    """How many corners each closed outline has, (n,), by one corner of each, `starts`."""
    lengths = np.empty(starts.size, np.int64)
    for k in range(starts.size):
        count, node = 1, links[starts[k], 0]
        while node != starts[k]:
            node = links[node, 0]
            count += 1
        lengths[k] = count
    return lengths


@njit(nogil=True, cache=True)
def unrolled(nodes, links, starts, offsets, out):  # type: ignore[no-untyped-def]
    """Write the corners of closed outlines from `starts` on into out (n, 3), each from its offset on."""
    for k in range(starts.size):
        node, at = starts[k], offsets[k]
        while at < offsets[k + 1]:
            out[at] = nodes[node]
            node, at = links[node, 0], at + 1


@njit(nogil=True, cache=True)
def kept(nodes, links, starts):  # type: ignore[no-untyped-def]
    """Corners and links of the open outlines that begin at `starts`, and the new number of each corner."""
    renamed = np.full(nodes.shape[0], NONE, np.int64)
    count = 0
    for start in starts:
        node, last = start, links[start, 1]
        while True:
            renamed[node] = count
            count += 1
            if node == last:
                break
            node = links[node, 0]
    new_nodes, new_links = np.empty((count, 3), np.int64), np.empty((count, 2), np.int64)
    for node in range(nodes.shape[0]):
        at = renamed[node]
        if at != NONE:
            new_nodes[at] = nodes[node]
            after, other = links[node, 0], links[node, 1]
            new_links[at, 0] = renamed[after] if after >= 0 else NONE
            new_links[at, 1] = renamed[other] if 0 <= other < renamed.size else NONE
    return new_nodes, new_links, renamed


@njit(nogil=True, cache=True)
def loops(corners, starts, chosen):  # type: ignore[no-untyped-def]
    """The loops of outlines that come back to some of their corners.

    corners (n, 3) and starts (m + 1,) of outlines; chosen: which of them. Returns which outline each loop is
    of, where its corners begin, and the corners (k, 2).
    """
    most = 0
    for k in chosen:
        most += starts[k + 1] - starts[k]
    out, path = np.empty((most, 2), np.int64), np.empty((most, 3), np.int64)
    owners, begins = np.empty(most, np.int64), np.empty(most + 1, np.int64)
    begins[0] = 0
    done, found = 0, 0
    for k in chosen:
        at = {np.int64(0): np.int64(0)}  # places of the corners on the path, by where they are
        at.clear()
        size = np.int64(0)
        for n in range(starts[k], starts[k + 1] + 1):
            last = n == starts[k + 1]
            key = np.int64(0) if last else corners[n, 0] << 32 | corners[n, 1]
            if last or (corners[n, 2] and key in at):
                first = np.int64(0) if last else at[key]
                for m in range(first, size):
                    out[done, 0], out[done, 1] = path[m, 0], path[m, 1]
                    done += 1
                    if m > first and path[m, 2]:
                        gone = path[m, 0] << 32 | path[m, 1]
                        at.pop(gone, None)
                owners[found], begins[found + 1] = k, done
                found += 1
                size = first + np.int64(1)
                continue
            if corners[n, 2]:
                at[key] = size
            path[size] = corners[n]
            size += np.int64(1)
    return owners[:found], begins[: found + 1], out[:done]
