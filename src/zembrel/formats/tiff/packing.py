"""Cells as TIFF segments hold them: tiles padded, samples of a cell together, differences taken."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

from zembrel.raster import kernels
from zembrel.raster.kernels import worth_compiling

Cells = npt.NDArray[Any]


def packed(cells: Cells, shape: tuple[int, int], *, differences: bool, drawn_out: bool = False) -> Cells:
    """The segment of `shape` that holds `cells` (samples, rows, columns), as (rows, columns, samples).

    differences: whether each cell becomes its difference from the one on its left (TIFF 6.0, section
    14). Beyond the image the segment is 0, or `drawn_out` from the last cells, for codecs that blur.
    """
    rows, columns = cells.shape[1:]
    whole = (rows, columns) == shape
    tile = (np.empty if whole else np.zeros)((*shape, cells.shape[0]), cells.dtype)
    if differences and cells.dtype.kind in "iu":
        numbers = cells.view(f"u{cells.itemsize}")
        if worth_compiling(cells.size):
            kernels.differences.take(numbers, tile.view(numbers.dtype))
        else:
            steps = np.diff(numbers, axis=2, prepend=numbers.dtype.type(0))
            np.stack(list(steps), axis=-1, out=tile.view(numbers.dtype)[:rows, :columns])
        return tile
    if cells.shape[0] > 1 and worth_compiling(cells.size):
        kernels.differences.together(_bits(cells), _bits(tile))
    else:
        np.stack(list(cells), axis=-1, out=tile[:rows, :columns])
    if drawn_out and not whole:
        tile[:rows, columns:] = tile[:rows, columns - 1 : columns]
        tile[rows:] = tile[rows - 1 : rows]
    return tile


def unpacked(tile: Cells, *, differences: bool) -> Cells:
    """Cells (samples, rows, columns) of a segment (rows, columns, samples), the inverse of `packed`.

    Without differences they are the segment itself, seen so: `placed` puts them in order.
    """
    if not differences:
        return tile.transpose(2, 0, 1)
    whole = tile.view(f"u{tile.itemsize}")
    cells = np.empty((tile.shape[2], *tile.shape[:2]), whole.dtype)
    if worth_compiling(cells.size):
        kernels.differences.add_up(whole, cells)
    else:
        np.add.accumulate(whole.transpose(2, 0, 1), axis=2, dtype=whole.dtype, out=cells)
    return cells.view(tile.dtype)


def _bits(cells: Cells) -> Cells:
    """Return the same cells as unsigned numbers, so that one kernel copies all types of that size."""
    return cells.view(f"u{cells.itemsize}") if cells.itemsize in (1, 2, 4, 8) else cells


def placed(cells: Cells, out: Cells) -> None:
    """Copy cells (samples, rows, columns) into `out`, fast also where samples lie side by side."""
    apart = len(cells) > 1 and cells.strides[2] > cells.itemsize and cells.dtype == out.dtype
    if apart and worth_compiling(cells.size):
        kernels.differences.apart(_bits(cells).transpose(1, 2, 0), _bits(out))
    else:
        out[...] = cells
