"""Cells that come in any order: an array where most places of the frame have one, else what there is."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane

Array = npt.NDArray[Any]
_FEW, _SHARE = 1_000_000, 4  # places that are always held, and places for each cell that is there


class PlacedCells(NamedTuple):
    """Some cells: their rows and columns, (n,), and values of each layer, (layers, n)."""

    rows: npt.NDArray[np.int64]
    columns: npt.NDArray[np.int64]
    values: Array


class HeldCells:
    """All cells of a file; of two at one place the later counts.

    count: cells that there are; void: what stands where there is none.
    """

    def __init__(
        self, frame: Frame, layers: int, count: int, void: Array, chunks: Iterable[PlacedCells]
    ) -> None:
        self._columns, self._void, self._places = frame.columns, void, None
        if frame.size <= _FEW + _SHARE * count:
            self._values = np.full((layers, frame.rows, frame.columns), void)
            for chunk in chunks:
                self._values[:, chunk.rows, chunk.columns] = chunk.values
            return
        held = list(chunks)
        places = np.concatenate([chunk.rows * frame.columns + chunk.columns for chunk in held])
        order = np.argsort(places, kind="stable")
        self._places = places[order]
        self._values = np.concatenate([chunk.values for chunk in held], axis=1)[:, order]

    @property
    def nbytes(self) -> int:
        """Bytes that it takes."""
        return int(self._values.nbytes) + (0 if self._places is None else int(self._places.nbytes))

    def part(self, pane: Pane) -> Array:
        """The values in a pane, (layers, rows, columns)."""
        if self._places is None:
            return self._values[:, pane.top : pane.bottom, pane.left : pane.right]
        ends = np.array([pane.top, pane.bottom], np.int64) * self._columns
        first, last = np.searchsorted(self._places, ends)
        rows, columns = np.divmod(self._places[first:last], self._columns)
        inside = (columns >= pane.left) & (columns < pane.right)
        found = np.full((len(self._values), *pane.shape), self._void)
        found[:, rows[inside] - pane.top, columns[inside] - pane.left] = self._values[:, first:last][
            :, inside
        ]
        return found
