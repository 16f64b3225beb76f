"""How far two rasters on one frame are shifted against each other: what windows all over them say."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from zembrel.engine.limits import Limits
from zembrel.engine.run import over_panes
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.displacement import LEAST, PAD, Displacement, Untold, displacement
from zembrel.raster.model import Raster

_SIDE, _ACROSS = 256, 6  # cells of a window without its edges; windows along a side at most
_FEW, _ALIKE = 9, 0.01  # windows that are asked first, and cells within which these do
_SMALL = 96  # cells of a window of a small raster, so that there are several
_AGREE = 0.15  # cells within which windows agree


class ShiftEstimate(NamedTuple):
    """Columns to the right and rows down by which the second lies further.

    confidence: 0 to 1, the share of windows that agree, by how well they do and how many there are.
    """

    columns: float
    rows: float
    confidence: float


def shift_between(one: Raster, other: Raster, limits: Limits) -> ShiftEstimate | Untold:
    """The median of what windows say, if most of those that can say anything agree.

    A few windows that are spread over the rasters do where they agree; else all of them are asked.
    """
    windows = _windows(one.frame)
    first = windows[:: max(1, len(windows) // _FEW)]
    rest = [window for window in windows if window not in first]
    task, found = _Window(one, other), list[Displacement | Untold]()
    for part in (first, rest):
        found += over_panes(one, part, task, limits)
        told = [item for item in found if isinstance(item, Displacement)]
        if found and all(item is Untold.PERIODIC for item in found):
            break
        if len(told) >= _FEW // 2 and np.ptp([item[:2] for item in told], axis=0).max() < _ALIKE:
            break
    return _agreed(found)


def _agreed(found: Sequence[Displacement | Untold]) -> ShiftEstimate | Untold:
    told = [item for item in found if isinstance(item, Displacement)]
    if not told:
        reasons = Counter(item for item in found if isinstance(item, Untold))
        return reasons.most_common(1)[0][0] if reasons else Untold.SMALL
    places = np.array([item[:2] for item in told])
    agree = (np.abs(places - np.median(places, axis=0)) <= _AGREE).all(axis=1)
    share = float(agree.mean())
    if share < 0.5:
        return Untold.UNLIKE
    columns, rows = np.median(places[agree], axis=0).tolist()
    alike = float(np.median([item.alike for item in told]))
    return ShiftEstimate(columns, rows, share * alike * (1 - 0.5 ** int(agree.sum())))


def _windows(frame: Frame) -> Sequence[Pane]:
    """Panes of one size, spread over the frame."""
    least = min(frame.rows, frame.columns)
    side = min(_SIDE + 2 * PAD, max(2 * least // 3, min(least, _SMALL)))
    if side < LEAST:
        return []

    def starts(room: int) -> list[int]:
        count = min(_ACROSS, max(1, 2 * room // side - 1))  # half of one overlaps the next
        return [round((room - side) * (n + 0.5) / count) for n in range(count)]

    return [
        Pane(top, left, top + side, left + side)
        for top in starts(frame.rows)
        for left in starts(frame.columns)
    ]


@dataclass(frozen=True, eq=False)
class _Window:
    """The task of looking at a window."""

    one: Raster
    other: Raster

    def __call__(self, pane: Pane) -> Displacement | Untold:
        pictures = []
        for raster in (self.one, self.other):
            block = raster.cells(pane)
            known = np.logical_and.reduce([block.valid_of(band) for band in range(len(block.cells))])
            pictures.append(np.where(known, block.cells.mean(axis=0, dtype=np.float64), np.nan))
        return displacement(*pictures)
