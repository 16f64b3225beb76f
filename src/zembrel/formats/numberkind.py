"""The cell type of numbers that come as text."""

from __future__ import annotations

import numpy as np

from zembrel.grid.frame import Array

_INT32 = 2**31


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
