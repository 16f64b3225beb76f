"""Invalid cells in formats without a mask: a value says where nothing is."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from zembrel.errors import RefusedError
from zembrel.raster.model import Band, Block, Cells


def void_of(bands: Sequence[Band]) -> float | int | None:
    """The value that invalid cells of `bands` get: nodata, else NaN for floats, else none."""
    nodata = next((band.nodata for band in bands if band.nodata is not None), None)
    return math.nan if nodata is None and all(band.dtype.kind == "f" for band in bands) else nodata


def filled(block: Block, void: float | int | None, kind: str) -> Cells:
    """The cells of `block` with `void` where they are invalid. Raises RefusedError without such a value.

    kind: what the file is, for the message.
    """
    if block.valid is None:
        return block.cells
    if void is None:
        raise RefusedError(
            "some cells are invalid and no nodata value is chosen",
            f"{kind} says by a value where nothing is",
            "add --nodata VALUE, one that no cell has",
        )
    return np.where(block.valid, block.cells, np.asarray(void, block.cells.dtype))
