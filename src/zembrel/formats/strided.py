"""Cells that lie in a file with a fixed number of bytes from one to the next, read where they are wanted."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from zembrel.errors import InputError
from zembrel.handles import file_handles
from zembrel.raster.model import Cells

_LARGEST = 1 << 26  # bytes that are read at a time
_WASTE = 2  # times the bytes that are wanted, which one reading may bring


class RawLayout(NamedTuple):
    """Where cells lie: type with byte order, first byte, and bytes to the next band, row and column."""

    dtype: np.dtype[Any]
    skip: int
    band: int
    row: int
    column: int


def read_strided(
    path: Path, layout: RawLayout, shape: tuple[int, int, int], corner: tuple[int, int]
) -> Cells:
    """Cells (bands, rows, columns) of `shape` from row and column `corner` on, in the byte order of the file.

    Raises InputError if the file has become shorter.
    """
    made = np.empty(shape, layout.dtype)
    begin = layout.skip + corner[0] * layout.row + corner[1] * layout.column
    _gather(path, begin, (layout.band, layout.row, layout.column), made)
    return made


def _gather(path: Path, begin: int, steps: tuple[int, ...], made: Cells) -> None:
    """Fill `made` from cells that lie `steps` bytes apart, at once or along the longest step."""
    ends = [step * (count - 1) for step, count in zip(steps, made.shape, strict=True)]
    low, size = begin + sum(min(end, 0) for end in ends), sum(map(abs, ends)) + made.dtype.itemsize
    if made.size == 1 or size <= min(_WASTE * made.nbytes, _LARGEST):
        data = file_handles.read(path, low, size)
        if low < 0 or len(data) < size:
            raise InputError(
                f"{path} is broken", "it has become shorter while it was read", "get the file again"
            )
        made[...] = np.ndarray(made.shape, made.dtype, data, begin - low, steps)
        return
    axis = max(range(3), key=lambda n: abs(steps[n]) if made.shape[n] > 1 else -math.inf)
    for n in range(made.shape[axis]):
        part = [slice(None)] * 3
        part[axis] = slice(n, n + 1)
        _gather(path, begin + n * steps[axis], steps, made[tuple(part)])
