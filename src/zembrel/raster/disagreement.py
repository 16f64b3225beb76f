"""How far overlapping rasters of one frame disagree, measured at panes spread over the overlap."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.grid.pane import Pane
from zembrel.raster.displacement import Displacement, displacement
from zembrel.raster.tone import Common
from zembrel.raster.views.overlap import RasterPiece, everywhere

PROBE = 96  # cells along a side of a probe
PROBES = 4  # along each side of an overlap
MOST_PAIRS = 200
Values = npt.NDArray[Any]
Pair = tuple[int, int, Pane]  # two pieces and where their footprints overlap


class Disagreement(NamedTuple):
    """Differences (second minus first) of two pieces where both are valid: cells, mean, rms, worst.

    shift: by how many cells the second seems to lie further right and down, if that can be told.
    """

    first: int
    second: int
    cells: int
    mean: float
    rms: float
    worst: float
    shift: tuple[float, float] | None


class Probe(NamedTuple):
    """The cells of two pieces at one pane, and where both are valid in all bands."""

    one: Values
    other: Values
    valid: npt.NDArray[np.bool_]


def pairs_of(pieces: Sequence[RasterPiece]) -> list[Pair]:
    """All pairs of pieces whose footprints overlap."""
    panes = [piece.footprint for piece in pieces]
    edges = np.array([(p.top, p.left, p.bottom, p.right) for p in panes], np.int64).reshape(-1, 4)
    found: list[Pair] = []
    for i, pane in enumerate(panes):
        top, left, bottom, right = edges[i + 1 :].T
        meets = (top < pane.bottom) & (bottom > pane.top) & (left < pane.right) & (right > pane.left)
        for j in (np.flatnonzero(meets) + i + 1).tolist():
            overlap = pane.meet(panes[j])
            assert overlap is not None
            found.append((i, j, overlap))
    return found


def disagreements(pieces: Sequence[RasterPiece], most: int = MOST_PAIRS) -> list[Disagreement]:
    """One entry for each pair of `pieces` that overlap, probed at up to PROBES x PROBES places.

    Of more than `most` pairs so many are looked at, spread over all.
    """
    pairs = pairs_of(pieces)
    step = max(1, -(-len(pairs) // most))
    found = (_compare(pieces, pair) for pair in pairs[::step])
    return [entry for entry in found if entry is not None]


def commons(pieces: Sequence[RasterPiece], bands: int) -> list[list[Common]]:
    """For each band what the overlaps of `pieces` have in common, for tone matching."""
    found: list[list[Common]] = [[] for _ in range(bands)]
    for i, j, overlap in pairs_of(pieces):
        sums = np.zeros((bands, 6))
        for one, other, valid in _probes(pieces, (i, j, overlap)):
            x, y = one[:, valid].astype(float), other[:, valid].astype(float)
            count = np.full(bands, float(valid.sum()))
            terms = (x, y, x * x, y * y, x * y)
            sums += np.stack([count, *(term.sum(axis=1) for term in terms)], axis=1)
        if sums[0, 0]:
            for band, row in enumerate(sums.tolist()):
                found[band].append(Common(i, j, tuple(row)))
    return found


def _compare(pieces: Sequence[RasterPiece], pair: Pair) -> Disagreement | None:
    cells, total, squares, worst = 0, 0.0, 0.0, 0.0
    shifts: list[Displacement] = []
    for one, other, valid in _probes(pieces, pair):
        gap = (other.astype(float) - one.astype(float))[:, valid]
        cells += gap.size
        total += float(gap.sum())
        squares += float(np.square(gap).sum())
        worst = max(worst, float(np.abs(gap).max()))
        shift = displacement(_flat(one, valid), _flat(other, valid))
        shifts += [shift] if isinstance(shift, Displacement) else []
    if not cells:
        return None
    return Disagreement(*pair[:2], cells, total / cells, math.sqrt(squares / cells), worst, _agreed(shifts))


def _agreed(shifts: Sequence[Displacement]) -> tuple[float, float] | None:
    """The median of what probes say."""
    if not shifts:
        return None
    right, down = np.median([(shift.columns, shift.rows) for shift in shifts], axis=0).tolist()
    return right, down


def _flat(cells: Values, valid: npt.NDArray[np.bool_]) -> npt.NDArray[np.float64]:
    """The mean of all bands, NaN where invalid."""
    mean: npt.NDArray[np.float64] = np.where(valid, cells.mean(axis=0, dtype=np.float64), np.nan)
    return mean


def _probes(pieces: Sequence[RasterPiece], pair: Pair) -> Iterator[Probe]:
    first, second, overlap = pair
    for pane in _panes(overlap):
        one, other = pieces[first].raster.cells(pane), pieces[second].raster.cells(pane)
        valid = everywhere(one) & everywhere(other)
        if valid.any() and one.cells.shape == other.cells.shape:
            yield Probe(one.cells, other.cells, valid)


def _panes(overlap: Pane) -> list[Pane]:
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
