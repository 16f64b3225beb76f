"""How far one picture is shifted against another, to a small part of a cell.

Sources: C. D. Kuglin, D. C. Hines, "The phase correlation image alignment method", Proc. IEEE Conference
on Cybernetics and Society (1975), for whole cells; B. D. Lucas, T. Kanade, "An iterative image
registration technique with an application to stereo vision", Proc. IJCAI (1981), for parts of them.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[np.float64]
_STEPS = 8  # of the iteration
_LEAST = 24  # cells along a side without which nothing is said
_ALIKE = 0.5  # correlation below which two pictures show different things


class Displacement(NamedTuple):
    """Columns to the right and rows down by which the second lies further, and the correlation there."""

    columns: float
    rows: float
    alike: float


def displacement(one: Array, other: Array) -> Displacement | None:
    """Of two pictures (rows, columns) of one size, NaN where unknown; None where nothing can be said.

    Nothing can be said of pictures that are small, mostly unknown, flat, or not alike.
    """
    known = np.isfinite(one) & np.isfinite(other)
    if min(one.shape) < _LEAST or known.mean() < 0.6:
        return None
    first, second = (np.where(known, picture - picture[known].mean(), 0.0) for picture in (one, other))
    if min(first[known].std(), second[known].std()) < 1e-9:
        return None
    row, column = _whole_cells(first, second)
    if max(abs(row), abs(column)) > min(one.shape) // 4:
        return None
    return _parts(first, second, (float(row), float(column)))


def _whole_cells(one: Array, other: Array) -> tuple[int, int]:
    """Rows and columns of the peak of phase correlation."""
    window = np.outer(np.hanning(one.shape[0]), np.hanning(one.shape[1]))
    across = np.fft.rfft2(other * window) * np.conj(np.fft.rfft2(one * window))
    peak = np.fft.irfft2(across / np.maximum(np.abs(across), 1e-12), s=one.shape)
    row, column = np.unravel_index(int(peak.argmax()), one.shape)
    rows, columns = one.shape
    return (int(row) + rows // 2) % rows - rows // 2, (int(column) + columns // 2) % columns - columns // 2


def _parts(one: Array, other: Array, start: tuple[float, float]) -> Displacement | None:
    row, column = start
    alike = 0.0
    for _ in range(_STEPS):
        moved, inside = _moved(other, row, column)
        middle = (one + moved) / 2
        down, right = np.gradient(middle, axis=0), np.gradient(middle, axis=1)
        inner = inside & (np.abs(down) + np.abs(right) > 0)
        if inner.sum() < _LEAST**2 // 2:
            return None
        d, r, gap = down[inner], right[inner], (moved - one)[inner]
        gap = gap - gap.mean()
        dd, dr, rr, dg, rg = (float(one @ two) for one, two in ((d, d), (d, r), (r, r), (d, gap), (r, gap)))
        determinant = dd * rr - dr * dr
        if determinant < 1e-9 * (dd + rr) ** 2:
            return None
        down_by, right_by = (rr * dg - dr * rg) / determinant, (dd * rg - dr * dg) / determinant
        row, column = row - down_by, column - right_by
        a, b = one[inner] - one[inner].mean(), moved[inner] - moved[inner].mean()
        alike = float(a @ b / max(np.sqrt((a @ a) * (b @ b)), 1e-30))
        if max(abs(down_by), abs(right_by)) < 1e-3:
            break
    return Displacement(column, row, alike) if alike >= _ALIKE else None


def _moved(picture: Array, row: float, column: float) -> tuple[Array, npt.NDArray[np.bool_]]:
    """`picture` as seen `row` and `column` further, bilinear; and where that lies inside."""
    rows, columns = (np.arange(n, dtype=np.float64) for n in picture.shape)
    at_r, at_c = rows + row, columns + column
    inside = ((at_r >= 1) & (at_r < picture.shape[0] - 2))[:, None] & (
        (at_c >= 1) & (at_c < picture.shape[1] - 2)
    )
    r, c = (
        np.clip(np.floor(at), 0, n - 2).astype(int) for at, n in zip((at_r, at_c), picture.shape, strict=True)
    )
    fr, fc = np.clip(at_r - r, 0, 1)[:, None], np.clip(at_c - c, 0, 1)
    upper = picture[np.ix_(r, c)] * (1 - fc) + picture[np.ix_(r, c + 1)] * fc
    lower = picture[np.ix_(r + 1, c)] * (1 - fc) + picture[np.ix_(r + 1, c + 1)] * fc
    return upper * (1 - fr) + lower * fr, inside
