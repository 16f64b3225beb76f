"""How far overlapping rasters of one frame disagree, measured at panes spread over the overlap."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from zembrel.grid.pane import Pane
from zembrel.raster.views.mosaic import Piece

PROBE = 96  # cells along a side of a probe
PROBES = 4  # along each side of an overlap
MOST_PAIRS = 200


class Disagreement(NamedTuple):
    """Differences (second minus first) of two pieces where both are valid: cells, mean, rms, worst."""

    first: int
    second: int
    cells: int
    mean: float
    rms: float
    worst: float


def disagreements(pieces: Sequence[Piece]) -> list[Disagreement]:
    """One entry for each pair of `pieces` that overlap, probed at up to PROBES x PROBES places."""
    pairs = [
        (i, j, overlap)
        for i, one in enumerate(pieces)
        for j in range(i + 1, len(pieces))
        if (overlap := one.footprint.meet(pieces[j].footprint))
    ]
    step = max(1, len(pairs) // MOST_PAIRS)
    found = (_compare(pieces, i, j, overlap) for i, j, overlap in pairs[::step])
    return [entry for entry in found if entry is not None]


def _compare(pieces: Sequence[Piece], i: int, j: int, overlap: Pane) -> Disagreement | None:
    cells, total, squares, worst = 0, 0.0, 0.0, 0.0
    for probe in _probes(overlap):
        one, other = pieces[i].raster.cells(probe), pieces[j].raster.cells(probe)
        valid = one.anywhere & other.anywhere
        if not valid.any() or one.cells.shape != other.cells.shape:
            continue
        gap = (other.cells.astype(float) - one.cells.astype(float))[:, valid]
        cells += gap.size
        total += float(gap.sum())
        squares += float(np.square(gap).sum())
        worst = max(worst, float(np.abs(gap).max()))
    if not cells:
        return None
    return Disagreement(i, j, cells, total / cells, math.sqrt(squares / cells), worst)


def _probes(overlap: Pane) -> list[Pane]:
    rows = _starts(overlap.top, overlap.bottom)
    columns = _starts(overlap.left, overlap.right)
    size = Pane(0, 0, min(PROBE, overlap.rows), min(PROBE, overlap.columns))
    return [size.moved(row, column) for row in rows for column in columns]


def _starts(low: int, high: int) -> list[int]:
    room = high - low - PROBE
    if room <= 0:
        return [low]
    count = min(PROBES, 1 + room // PROBE)
    return [low + round(room * n / max(count - 1, 1)) for n in range(count)]
