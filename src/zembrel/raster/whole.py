"""Whole numbers of cells: numbers rounded to them, and those that double precision does not hold."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[Any]
_WIDE = 8  # bytes
_NO_FRACTIONS = 2.0**52  # from which on doubles are whole


def rounded(values: Array, kind: np.dtype[Any]) -> Array:
    """Numbers in type `kind`: of whole ones the nearest, half up, or the end of the type; NaN is 0."""
    if kind.kind not in "iu" or (values.dtype.kind != "f" and np.can_cast(values.dtype, kind)):
        return values.astype(kind, copy=False)
    limits = np.iinfo(kind)
    if values.dtype.kind != "f":
        low, high = (min(max(int(end), limits.min), limits.max) for end in _ends(values.dtype))
        return np.asarray(np.clip(values, low, high), kind)
    exact = np.nan_to_num(values if kind.itemsize <= 2 else values.astype(np.float64, copy=False), nan=0.0)
    whole = np.floor(exact + 0.5)
    if kind.itemsize < _WIDE:
        return np.asarray(np.clip(whole, limits.min, limits.max), kind)
    whole = np.where(np.abs(exact) < _NO_FRACTIONS, whole, exact)
    top = largest_double(kind)
    made: Array = np.clip(whole, limits.min, top).astype(kind)
    made[whole > top] = limits.max
    return made


def largest_double(kind: np.dtype[Any]) -> float:
    """The largest double that a type of whole numbers holds."""
    most = np.iinfo(kind).max
    return float(most) if int(float(most)) == most else float(np.nextafter(float(most), 0.0))


def _ends(kind: np.dtype[Any]) -> tuple[int, int]:
    """The smallest and the largest number of a type of whole numbers, or of truth."""
    return (0, 1) if kind.kind == "b" else (np.iinfo(kind).min, np.iinfo(kind).max)


def is_wide(kind: np.dtype[Any]) -> bool:
    """Whether a type holds whole numbers that double precision does not."""
    return kind.kind in "iu" and kind.itemsize == _WIDE
