"""Passing over a raster: the panes in which all of it is read once."""

from __future__ import annotations

from zembrel.grid.pane import Pane
from zembrel.raster.model import Raster

_SIDE = 1024  # cells along a pane, about
_MOST = 4 * _SIDE * _SIDE  # cells of a pane, however large the segments of a file are


def blocks_of(view: Raster) -> list[Pane]:
    """Panes that cover `view`, from the top down: whole segments of the file if they can be held."""
    rows, columns = getattr(view, "block_shape", (_SIDE, _SIDE))
    across = view.frame.columns
    if columns >= across:
        high = rows * max(1, _SIDE * _SIDE // (rows * across))
        return list(view.frame.pane.blocks(max(1, min(high, _MOST // across)), across))
    columns = min(max(columns, _SIDE // columns * columns), _MOST)
    rows = min(max(rows, _SIDE // rows * rows), max(1, _MOST // columns))
    return list(view.frame.pane.blocks(rows, columns))
