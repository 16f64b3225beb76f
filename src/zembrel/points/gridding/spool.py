"""Points by place: written once into files of square blocks of cells, from which any pane gets its own."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from zembrel.grid.frame import ON_EDGE, Frame
from zembrel.grid.pane import Pane
from zembrel.points.model import PointBlock
from zembrel.scratch import Scratch

Spooled = npt.NDArray[np.void]  # column and row in cells from the corner of the frame, and values
_SIDES = (16, 32, 64, 128, 256, 512, 1024)
_POINTS = 250_000  # points that a block holds at most, on the mean


@dataclass(frozen=True, eq=False)
class Spool:
    """Files of points in a folder that is removed with it.

    frame: north up; side: cells of a block; margin: cells around the frame whose points are kept too.
    """

    frame: Frame
    side: int
    margin: int
    dtype: np.dtype[np.void]
    scratch: Scratch

    @classmethod
    def over(cls, frame: Frame, margin: float, names: Sequence[str], points: int) -> Spool:
        """An empty spool for values of these names; points: how many will come, roughly."""
        per_cell = max(points / frame.size, 1e-9)
        side = max([s for s in _SIDES if s * s * per_cell <= _POINTS] or [_SIDES[0]])
        side = max(side, min(256, 1 << int(np.ceil(np.log2(margin + 1)))))
        dtype = np.dtype([("column", "f8"), ("row", "f8"), *((name, "f8") for name in names)])
        return cls(frame, side, int(np.ceil(margin)) + 1, dtype, Scratch())

    def add(self, block: PointBlock, values: dict[str, npt.NDArray[Any]]) -> None:
        """Points of a block with their values; those beyond the margin are left out."""
        affine = self.frame.corners
        columns, rows = (block.x - affine.x0) / affine.x_col, (block.y - affine.y0) / affine.y_row
        columns, rows = (np.where((at < 0) & (at > -ON_EDGE), 0.0, at) for at in (columns, rows))
        m = self.margin
        near = (
            (columns >= -m) & (columns < self.frame.columns + m) & (rows >= -m) & (rows < self.frame.rows + m)
        )
        if not near.any():
            return
        made = np.zeros(int(near.sum()), self.dtype)
        made["column"], made["row"] = columns[near], rows[near]
        for name, held in values.items():
            made[name] = held[near]
        across, down = (np.floor(made[axis] / self.side).astype(np.int64) for axis in ("column", "row"))
        keys = (down + 1_000_000) * 4_000_000 + across + 1_000_000
        order = np.argsort(keys, kind="stable")
        found, starts = np.unique(keys[order], return_index=True)
        for number, first, end in zip(found.tolist(), starts, [*starts[1:], len(order)], strict=True):
            row, column = number // 4_000_000 - 1_000_000, number % 4_000_000 - 1_000_000
            with self._file(row, column).open("ab") as file:
                file.write(made[order[first:end]].tobytes())

    def points(self, pane: Pane, margin: float) -> Spooled:
        """Points of the cells of a pane and of a margin in cells around it, in a fixed order."""
        top, bottom = pane.top - margin, pane.bottom + margin
        left, right = pane.left - margin, pane.right + margin
        parts = [np.zeros(0, self.dtype)]
        for row in range(int(np.floor(top / self.side)), int(np.floor(bottom / self.side)) + 1):
            for column in range(int(np.floor(left / self.side)), int(np.floor(right / self.side)) + 1):
                file = self._file(row, column)
                if file.exists():
                    held = np.fromfile(file, self.dtype)
                    inside = (held["column"] >= left) & (held["column"] < right)
                    inside &= (held["row"] >= top) & (held["row"] < bottom)
                    parts.append(held[inside])
        return np.concatenate(parts)

    def blocks_of(self, pane: Pane) -> Iterator[Pane]:
        """The parts of a pane that lie in one block each."""
        for row in range(pane.top // self.side, (pane.bottom - 1) // self.side + 1):
            for column in range(pane.left // self.side, (pane.right - 1) // self.side + 1):
                top, left = row * self.side, column * self.side
                part = Pane(top, left, top + self.side, left + self.side).meet(pane)
                if part is not None:
                    yield part

    def _file(self, row: int, column: int) -> Path:
        return self.scratch.path / f"{row}_{column}.points"
