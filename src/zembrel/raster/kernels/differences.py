"""Between bands apart and samples side by side: as they are, or as horizontal differences and their sums."""

from __future__ import annotations

from zembrel.compiling import kernel


@kernel
def add_up(tile, cells):  # type: ignore[no-untyped-def]
    """Fill cells (samples, rows, columns) from a tile (rows, columns, samples) of differences."""
    samples, rows, columns = cells.shape
    for s in range(samples):
        for r in range(rows):
            total = tile[r, 0, s]
            cells[s, r, 0] = total
            for c in range(1, columns):
                total = total + tile[r, c, s]
                cells[s, r, c] = total


@kernel
def take(cells, tile):  # type: ignore[no-untyped-def]
    """Fill the corner of a tile (rows, columns, samples) from cells (samples, rows, columns)."""
    samples, rows, columns = cells.shape
    for r in range(rows):
        for s in range(samples):
            before = cells[s, r, 0]
            tile[r, 0, s] = before
            for c in range(1, columns):
                here = cells[s, r, c]
                tile[r, c, s] = here - before
                before = here


@kernel
def apart(tile, cells):  # type: ignore[no-untyped-def]
    """Fill cells (samples, rows, columns) from a tile (rows, columns, samples)."""
    samples, rows, columns = cells.shape
    for r in range(rows):
        if samples == 3:  # colours, in one go
            first, second, third, line = cells[0, r], cells[1, r], cells[2, r], tile[r]
            for c in range(columns):
                first[c], second[c], third[c] = line[c, 0], line[c, 1], line[c, 2]
            continue
        for s in range(samples):
            for c in range(columns):
                cells[s, r, c] = tile[r, c, s]


@kernel
def together(cells, tile):  # type: ignore[no-untyped-def]
    """Fill the corner of a tile (rows, columns, samples) from cells (samples, rows, columns)."""
    samples, rows, columns = cells.shape
    for r in range(rows):
        for s in range(samples):
            for c in range(columns):
                tile[r, c, s] = cells[s, r, c]
