"""Cells as TIFF tiles hold them: padded to whole tiles, samples of a cell together, differences taken."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

Cells = npt.NDArray[Any]


def packed(cells: Cells, side: int, *, differences: bool) -> Cells:
    """The tile of `side` x `side` that holds `cells` (samples, rows, columns), as (side, side, samples).

    differences: whether each cell becomes its difference from the one on its left (TIFF 6.0, section
    14). The tile is 0 beyond the image.
    """
    whole_tile = cells.shape[1:] == (side, side)
    tile = (np.empty if whole_tile else np.zeros)((side, side, cells.shape[0]), cells.dtype)
    if differences and cells.dtype.kind in "iu":
        from zembrel.raster.kernels import differences as kernel

        whole = cells.view(f"u{cells.itemsize}")
        kernel.take(whole, tile.view(whole.dtype))
    else:
        tile[: cells.shape[1], : cells.shape[2]] = cells.transpose(1, 2, 0)
    return tile


def unpacked(tile: Cells, *, differences: bool) -> Cells:
    """Cells (samples, rows, columns) of a segment (rows, columns, samples), the inverse of `packed`."""
    if not differences:
        return np.ascontiguousarray(tile.transpose(2, 0, 1))
    from zembrel.raster.kernels import differences as kernel

    whole = tile.view(f"u{tile.itemsize}")
    cells = np.empty((tile.shape[2], *tile.shape[:2]), whole.dtype)
    kernel.add_up(whole, cells)
    return cells.view(tile.dtype)
