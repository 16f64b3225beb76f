"""Numba kernels: contiguous arrays and plain numbers in, arrays out; no objects, no GIL.

Shapes: cells (bands, rows, columns); valid (0, 0, 0) for "all", (1, rows, columns) for all bands
alike or (bands, rows, columns); uint8. Positions count in cells from the corner of the first one,
so that the middle of cell i is i + 0.5.
"""

from __future__ import annotations

import sys

from zembrel.ondemand import on_demand

_WORTH = 30_000_000  # cells after which loading the compiler (0.7 s) has paid
_done = [0]  # cells that went without it


def compile_always() -> None:
    """Let even small jobs be worth it from now on."""
    _done[0] = _WORTH


def worth_compiling(cells: int) -> bool:
    """Whether `cells` more are worth the compiled kernels; until then plain NumPy does the same work.

    Once they are loaded, or the run is known to be no small one, the answer stays yes.
    """
    _done[0] += cells
    return _done[0] > _WORTH or "numba" in sys.modules


__getattr__ = on_demand(__name__)
