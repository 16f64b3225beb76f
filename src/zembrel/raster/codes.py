"""Whether values are codes of classes: said by a legend, or guessed from how few there are."""

from __future__ import annotations

import itertools
import math

import numpy as np

from zembrel.grid.pane import Pane
from zembrel.raster.model import Raster, is_photo
from zembrel.raster.views.opacity import colours_of

FEW = 16  # distinct values up to which whole numbers without a unit are taken for codes
_PROBE = 128  # cells along a side of a probe
_LEAST = 1_000  # valid cells without which nothing is guessed
_SPOT = 48  # cells along a side of a place that is looked at
_VOIDS = (-9999.0, -32768.0, -32767.0, -99999.0)  # that usually mean nothing


def void_taken_for_ground(raster: Raster) -> float | None:
    """A value of those that usually mean nothing, if probed cells hold it as a height; None if none does."""
    pane = raster.frame.pane
    tops, lefts = ({round(n * max(size - _SPOT, 0) / 5) for n in range(6)} for size in pane.shape)
    for top, left in itertools.product(sorted(tops), sorted(lefts)):
        probe = Pane(top, left, top + _SPOT, left + _SPOT).meet(pane)
        assert probe is not None
        block = raster.cells(probe)
        known = block.cells[0][block.valid_of(0)]
        low = float(known.min()) if known.size else 0.0
        if low in _VOIDS or -math.inf < low < -1e30:
            return low
    return None


def few_values(raster: Raster) -> int | None:
    """How many distinct values probed cells have, if whole numbers without unit, scale or colour have few.

    None if they have many, or measure something. Five probes are read: the corners and the middle.
    """
    raster = colours_of(raster)
    bands = raster.bands
    if is_photo(bands) or any(band.dtype.kind == "f" for band in bands):
        return None
    if any(band.unit or band.scale != 1 or band.offset for band in bands):
        return None
    found: list[set[int]] = [set() for _ in bands]
    cells = 0
    for probe in _probes(raster.frame.pane):
        block = raster.cells(probe)
        cells += int(block.anywhere.sum())
        for number, values in enumerate(found):
            values.update(np.unique(block.cells[number][block.valid_of(number)])[: FEW + 1].tolist())
            if len(values) > FEW:
                return None
    return max(len(values) for values in found) if cells >= _LEAST else None


def _probes(pane: Pane) -> list[Pane]:
    size = Pane(0, 0, min(_PROBE, pane.rows), min(_PROBE, pane.columns))
    down, across = pane.rows - size.rows, pane.columns - size.columns
    places = {(0, 0), (0, across), (down, 0), (down, across), (down // 2, across // 2)}
    return [size.moved(row, column) for row, column in sorted(places)]
