"""Cutting a frame into sheets that meet without gap or overlap."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from itertools import pairwise
from typing import NamedTuple

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane


class Cut(NamedTuple):
    """A piece of a frame: its number, row and column (from 1) and its cells."""

    number: int
    row: int
    column: int
    pane: Pane


def split(frame: Frame, across: int, down: int) -> list[Cut]:
    """`across` x `down` sheets whose numbers of cells differ by one at most."""
    return list(_cuts(_even(frame.rows, down), _even(frame.columns, across)))


def by_cells(frame: Frame, columns: int, rows: int) -> list[Cut]:
    """Sheets of `columns` x `rows` cells from the first cell on; the last ones may be smaller."""
    return list(
        _cuts([*range(0, frame.rows, rows), frame.rows], [*range(0, frame.columns, columns), frame.columns])
    )


def by_size(frame: Frame, width: float, height: float) -> list[Cut]:
    """Sheets of a ground size in CRS units, their edges on whole multiples of it.

    Edges fall on the nearest edges of cells, so sheets share them. frame: north up.
    """
    west, south, east, north = frame.bounds
    columns = _edges(west, east, width, lambda x: (x - west) / frame.cell[0], frame.columns)
    rows = _edges(-north, -south, height, lambda y: (y + north) / frame.cell[1], frame.rows)
    return list(_cuts(rows, columns))


def _even(cells: int, parts: int) -> list[int]:
    return [round(n * cells / parts) for n in range(parts + 1)]


def _edges(low: float, high: float, step: float, place: Callable[[float], float], cells: int) -> list[int]:
    first, last = math.floor(low / step + 1e-9) + 1, math.ceil(high / step - 1e-9) - 1
    inner = [round(place(n * step)) for n in range(first, last + 1)]
    return sorted({0, cells, *(edge for edge in inner if 0 < edge < cells)})


def _cuts(rows: Sequence[int], columns: Sequence[int]) -> Iterator[Cut]:
    number = 0
    for row, (top, bottom) in enumerate(pairwise(rows), 1):
        for column, (left, right) in enumerate(pairwise(columns), 1):
            number += 1
            yield Cut(number, row, column, Pane(top, left, bottom, right))
