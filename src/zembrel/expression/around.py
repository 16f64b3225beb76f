"""Statistics of the square around each cell, which are the same whatever block the cell is asked for in."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import numpy.typing as npt

from zembrel.moments import Moments

Array = npt.NDArray[Any]
Mask = npt.NDArray[np.bool_]
_ROWS_OF_MEDIANS = 8  # at a time, since each cell brings its whole square


def around(statistic: str, values: Array, valid: Mask | None, reach: int) -> tuple[Array, Mask]:
    """The statistic of the valid cells at most `reach` columns and rows away, and where there are any.

    values: (rows, columns); what lies outside of them counts as void. Sums are taken in an order that
    depends on the places relative to the cell alone, so that blocks agree to the last bit.
    """
    ok = np.ones(values.shape, bool) if valid is None else valid
    count = _joined(ok.astype(np.float64), reach, np.add, 0.0)
    some = count > 0
    if statistic == "count":
        return count, np.ones_like(some)
    if statistic == "median":
        return _medians(values, ok, reach), some
    if statistic in ("min", "max", "range"):
        low = _joined(np.where(ok, values, np.inf), reach, np.minimum, np.inf) if statistic != "max" else 0.0
        if statistic == "min":
            return np.asarray(low), some
        high = _joined(np.where(ok, values, -np.inf), reach, np.maximum, -np.inf)
        return np.where(some, high - low, 0.0), some
    held = np.where(ok, values, 0.0).astype(np.float64)
    total = _joined(held, reach, np.add, 0.0)
    if statistic == "sum":
        return total, some
    mean = total / np.maximum(count, 1)
    if statistic == "mean":
        return mean, some
    if statistic != "deviation":
        raise LookupError(statistic)
    whole = _joined(np.stack([ok.astype(np.float64), held, np.zeros_like(held)], axis=-1), reach, _both, 0.0)
    return np.where(some, np.nan_to_num(_moments(whole).deviation), 0.0), some


def _moments(held: Array) -> Moments:
    """Count, sum and centred squares, which stand along the last axis."""
    return Moments(held[..., 0], held[..., 1], held[..., 2])


def _both(one: Array, other: Array) -> Array:
    return np.stack(_moments(one).plus(_moments(other)), axis=-1)


def _joined(values: Array, reach: int, pair: Callable[[Any, Any], Any], nothing: float) -> Array:
    """Squares put together from pieces of twice the size each, first down, then across."""
    for axis in (0, 1):
        count, length = values.shape[axis], 2 * reach + 1
        piece = np.moveaxis(values, axis, 0)
        edge = np.full((reach, *piece.shape[1:]), nothing)
        piece, size, done, whole = np.concatenate((edge, piece, edge)), 1, 0, None
        while length:
            if length & 1:
                part = piece[done : done + count]
                whole = part if whole is None else pair(whole, part)
                done += size
            length >>= 1
            if length:
                piece = pair(piece[:-size], piece[size:])
                size *= 2
        assert whole is not None
        values = np.moveaxis(whole, 0, axis)
    return values


def _medians(values: Array, ok: Mask, reach: int) -> Array:
    wide = np.pad(np.where(ok, values, np.inf).astype(np.float64), reach, constant_values=np.inf)
    side, made = 2 * reach + 1, np.empty(values.shape)
    for top in range(0, len(values), _ROWS_OF_MEDIANS):
        rows = wide[top : top + _ROWS_OF_MEDIANS + 2 * reach]
        squares = np.lib.stride_tricks.sliding_window_view(rows, (side, side))
        held = np.sort(squares.reshape(*squares.shape[:2], side * side), axis=2)
        count = np.maximum(np.isfinite(held).sum(axis=2, keepdims=True), 1)
        ends = (np.take_along_axis(held, at, axis=2)[..., 0] for at in ((count - 1) // 2, count // 2))
        made[top : top + len(squares)] = sum(ends) / 2
    return made
