"""Numbers as text: their cell type when they come as such, and what cannot be told so."""

from __future__ import annotations

import numpy as np

from zembrel.errors import RefusedError
from zembrel.grid.frame import Array
from zembrel.raster.model import Block

_INT32, _EXACT = 2**31, 2**53  # ends of whole numbers: of 32 bits, and those that 64-bit floats hold


def check_tellable(block: Block) -> None:
    """Raise RefusedError for valid cells that would not come back from a text of numbers."""
    kind = block.cells.dtype
    if kind.kind == "f" and np.isinf(block.values).any():
        what, why = "valid cells hold infinite values", "a text of numbers has no word for them"
        raise RefusedError(what, why, "blank them first, with mask --where")
    wide = kind.kind in "iu" and kind.itemsize == 8 and block.values.size > 0
    if wide and max(int(block.values.max()), -int(block.values.min())) > _EXACT:
        what, why = "cells hold whole numbers beyond 2^53", "read from a text, they would be rounded"
        raise RefusedError(what, why, "write GeoTIFF, Parquet or another binary format")


class NumberKind:
    """Learns from values, NaN for nothing: int32 if all are whole, float32 if seven digits tell each, else
    float64 (also for whole numbers beyond 32 bits)."""

    def __init__(self) -> None:
        self._whole = self._short = True  # whole numbers; told by seven digits
        self._wide = False  # beyond 32 bits

    def see(self, values: Array) -> None:
        """Take some more values, (n,), into account."""
        known = values[np.isfinite(values)]
        self._whole &= bool((known == np.rint(known)).all())
        self._wide |= bool((np.abs(known) >= _INT32).any())
        if self._short and known.size:
            sizes = np.abs(known[known != 0])
            scale = 10.0 ** (6 - np.floor(np.log10(sizes)))
            self._short = bool(np.all(np.abs(sizes * scale - np.rint(sizes * scale)) < 1e-6))

    @property
    def type(self) -> str:
        if self._whole:
            return "float64" if self._wide else "int32"
        return "float32" if self._short else "float64"
