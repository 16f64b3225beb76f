"""Overviews of a raster that comes piece by piece: each level from the one before, strip by strip."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from zembrel.grid.pane import Pane
from zembrel.raster.model import Cells, Mask


class LevelPart(NamedTuple):
    """Cells of one level: where they lie in it, (bands, rows, columns), and which are valid, (1 or bands,
    rows, columns), None for all."""

    pane: Pane
    cells: Cells
    valid: Mask | None


@dataclass
class _Strip:
    """One strip of a level in the making."""

    top: int
    cells: Cells
    valid: Mask
    masked: bool = False

    def put(self, part: LevelPart) -> None:
        into = (
            slice(part.pane.top - self.top, part.pane.bottom - self.top),
            slice(part.pane.left, part.pane.right),
        )
        self.cells[(slice(None), *into)] = part.cells
        if part.valid is None:
            return
        if part.valid.shape[0] > self.valid.shape[0]:
            self.valid = np.repeat(self.valid, part.valid.shape[0], axis=0)
        self.valid[(slice(None), *into)] = part.valid
        self.masked = True

    @property
    def whole(self) -> LevelPart:
        pane = Pane(self.top, 0, self.top + self.cells.shape[1], self.cells.shape[2])
        return LevelPart(pane, self.cells, self.valid if self.masked else None)


class Pyramid:
    """Strips of `side` rows of levels, from pieces that come in the order of reading.

    sizes: rows and columns of each level; halve: a part of a level as one of the next.
    """

    def __init__(
        self, sizes: Sequence[tuple[int, int]], side: int, halve: Callable[[LevelPart], LevelPart]
    ) -> None:
        self._sizes, self._side, self._halve = sizes, side, halve
        self._strips: dict[int, _Strip] = {}

    def take(self, level: int, part: LevelPart) -> Iterator[tuple[int, LevelPart]]:
        """The strips, with their levels, that are complete with a piece of `level`."""
        rows, columns = self._sizes[level]
        strip = self._strips.get(level)
        if strip is None:
            top = part.pane.top // self._side * self._side
            shape = min(self._side, rows - top), columns
            layers = len(part.cells) if part.valid is not None and part.valid.shape[0] > 1 else 1
            cells = np.zeros((len(part.cells), *shape), part.cells.dtype)
            strip = self._strips[level] = _Strip(top, cells, np.ones((layers, *shape), bool))
        strip.put(part)
        if part.pane.right == columns and part.pane.bottom == strip.top + strip.cells.shape[1]:
            del self._strips[level]
            whole = strip.whole
            yield level, whole
            if level + 1 < len(self._sizes):
                yield from self.take(level + 1, self._halve(whole))
