"""Lines of cells thinned to one cell, and followed.

Cells are taken away from all sides in turn as long as that breaks and shortens nothing: A. Rosenfeld, "A
characterization of parallel thinning algorithms", Information and Control 29 (1975). The outermost cells of a
mask (rows, columns) are empty.
"""

from __future__ import annotations

import numpy as np

from zembrel.compiling import kernel, part_of_kernels

# the eight neighbours, clockwise from the north
DY = np.array([-1, -1, 0, 1, 1, 1, 0, -1])
DX = np.array([0, 1, 1, 1, 0, -1, -1, -1])


def _spare() -> np.ndarray:
    """Whether a cell whose neighbours have this code, a bit each, is no end and holds nothing together."""
    table = np.zeros(256, np.bool_)
    for code in range(256):
        near = [code >> n & 1 for n in range(8)]
        # parts that hang together only through the cell: Yokoi's number
        parts = sum(
            (1 - near[k]) - (1 - near[k]) * (1 - near[k + 1]) * (1 - near[(k + 2) % 8]) for k in (0, 2, 4, 6)
        )
        table[code] = parts == 1 and sum(near) > 1
    return table


SPARE = _spare()


@part_of_kernels
def _code(mask, y, x):  # type: ignore[no-untyped-def]
    code = 0
    for n in range(8):
        code |= mask[y + DY[n], x + DX[n]] << n
    return code


@kernel
def thin(mask):  # type: ignore[no-untyped-def]
    """Thin the cells of mask (rows, columns) uint8 that are 1, in place, to lines of one cell."""
    cells = np.argwhere(mask == 1)
    count, changed = len(cells), True
    chosen = np.empty(count, np.int64)
    while changed:
        changed = False
        for side in (0, 4, 2, 6):
            found = 0
            for k in range(count):
                y, x = cells[k]
                if not mask[y + DY[side], x + DX[side]] and SPARE[_code(mask, y, x)]:
                    chosen[found] = k
                    found += 1
            for k in range(found):
                y, x = cells[chosen[k]]
                if SPARE[_code(mask, y, x)]:
                    mask[y, x] = 0
                    changed = True
            kept = 0
            for k in range(count):
                y, x = cells[k]
                if mask[y, x]:
                    cells[kept, 0], cells[kept, 1] = y, x
                    kept += 1
            count = kept


@part_of_kernels
def _links(mask, y, x):  # type: ignore[no-untyped-def]
    """Which neighbours a cell is joined to, a bit each: across a corner only if not along the sides."""
    code = _code(mask, y, x)
    for n in (1, 3, 5, 7):
        if code >> n & 1 and (code >> (n - 1) & 1 or code >> ((n + 1) % 8) & 1):
            code &= ~(1 << n)
    return code


@part_of_kernels
def _count(code):  # type: ignore[no-untyped-def]
    many = 0
    for n in range(8):
        many += code >> n & 1
    return many


@kernel
def follow(mask):  # type: ignore[no-untyped-def]
    """The lines of a thinned mask: from end or junction to the next, and loops without either.

    Returns the cells of all lines (n, 2) row and column, where each begins (m + 1,), how many joined
    neighbours its first and last cell have (m, 2), and how many cells stand alone.
    """
    cells = np.argwhere(mask == 1)
    taken = np.zeros(mask.shape, np.uint8)  # links of each cell that are followed, a bit each
    room = 4 * len(cells) + 8
    out, starts, ends = (
        np.empty((room, 2), np.int64),
        np.empty(room + 1, np.int64),
        np.empty((room, 2), np.int64),
    )
    written, found, alone = 0, 0, 0
    for loops in (False, True):
        for k in range(len(cells)):
            y, x = cells[k]
            links = _links(mask, y, x)
            degree = _count(links)
            if degree == 0:
                alone += not loops
                continue
            if (degree == 2) != loops:
                continue
            for n in range(8):
                if not (links >> n & 1) or taken[y, x] >> n & 1:
                    continue
                starts[found] = written
                out[written, 0], out[written, 1] = y, x
                written += 1
                cy, cx, way = y, x, n
                while True:
                    taken[cy, cx] |= 1 << way
                    cy, cx = cy + DY[way], cx + DX[way]
                    back = (way + 4) % 8
                    taken[cy, cx] |= 1 << back
                    out[written, 0], out[written, 1] = cy, cx
                    written += 1
                    on = _links(mask, cy, cx)
                    if _count(on) != 2 or (cy == y and cx == x):
                        break
                    for m in range(8):
                        if on >> m & 1 and m != back:
                            way = m
                ends[found, 0], ends[found, 1] = degree, _count(_links(mask, cy, cx))
                found += 1
    starts[found] = written
    return out[:written], starts[: found + 1], ends[:found], alone


@kernel
def prune(mask, least):  # type: ignore[no-untyped-def]
    """Take away spurs of fewer than `least` cells beyond a junction, the shortest first; how many."""
    gone = 0
    for length in range(1, least):
        while True:
            cells, starts, ends, _ = follow(mask)
            before = gone
            for k in range(len(ends)):
                first, last = starts[k], starts[k + 1] - 1
                if (
                    min(ends[k, 0], ends[k, 1]) != 1
                    or max(ends[k, 0], ends[k, 1]) < 3
                    or last - first > length
                ):
                    continue
                if ends[k, 0] == 1:
                    last -= 1
                else:
                    first += 1
                for m in range(first, last + 1):
                    mask[cells[m, 0], cells[m, 1]] = 0
                gone += 1
            if gone == before:
                break
            thin(mask)
    return gone
