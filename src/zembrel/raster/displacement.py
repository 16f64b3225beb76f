"""How far one picture is shifted against another, to a small part of a cell.

Whole cells are the peak of the cross-correlation, parts of them the slope of the phases of the low
frequencies, where sampled scenes are alike; the second picture is moved by what was found and looked at again
until nothing is left, so that the window, which does not move with it, draws nothing towards zero.

Sources: C. D. Kuglin, D. C. Hines, "The phase correlation image alignment method", Proc. IEEE Conference on
Cybernetics and Society (1975); H. S. Stone, M. T. Orchard, E.-C. Chang, S. A. Martucci, "A fast direct
Fourier-based algorithm for subpixel registration of images", IEEE Transactions on Geoscience and Remote
Sensing 39 (2001).
"""

from __future__ import annotations

import math
from enum import Enum
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.scipypart import scipy

Array = npt.NDArray[np.float64]
LEAST = 24  # cells along a side without which nothing is said
PAD = 16  # cells at each side that only serve to move a picture, an eighth of it at most
_SOFT = 3.0  # cells of the Gaussian below which detail counts
_HIGHEST = 0.2  # cycles a cell, above which sampling has folded detail
_ROUNDS, _STEPS, _STILL = 6, 3, 5e-4
_MOST_VOID = 0.4
_LIKE = 0.2  # correlation below which two pictures show different things
_AGAIN = 0.7  # part of the highest correlation that a second, or a long one, leaves open
_ALIKE = 0.5  # coherence of phases below which they do


class Untold(Enum):
    """Why nothing can be said of a shift."""

    SMALL = "too little is there"
    VOID = "too much is void"
    FLAT = "the ground is flat"
    PERIODIC = "the ground repeats itself, or changes in one direction alone"
    UNLIKE = "the two are not alike"
    CLASSES = "classes changed"


class Displacement(NamedTuple):
    """Columns to the right and rows down by which the second lies further; alike: 1 where phases agree."""

    columns: float
    rows: float
    alike: float


@np.errstate(all="ignore")
def displacement(one: Array, other: Array) -> Displacement | Untold:
    """Of two pictures (rows, columns) of one size, NaN where unknown."""
    known = np.isfinite(one) & np.isfinite(other)
    if min(one.shape) < LEAST:
        return Untold.SMALL
    if known.mean() < 1 - _MOST_VOID:
        return Untold.VOID
    one, other = (picture / max(float(np.abs(picture[known]).max()), 1e-300) for picture in (one, other))
    first, second = (_detail(picture, known) for picture in (one, other))
    if min(_spread(first), _spread(second)) < 1e-7:
        return Untold.FLAT
    whole = _whole_cells(first, second)
    if isinstance(whole, Untold):
        return whole
    row, column = whole
    return _parts(first, second, float(row), float(column))


def _detail(picture: Array, known: npt.NDArray[np.bool_]) -> Array:
    """What stands out from the surroundings; voids do not."""
    if known.all():
        return np.asarray(picture - scipy("ndimage").gaussian_filter(picture, _SOFT))
    share = scipy("ndimage").gaussian_filter(known.astype(np.float64), _SOFT)
    held = np.where(known, picture - picture[known].mean(), 0.0)
    soft = scipy("ndimage").gaussian_filter(held, _SOFT) / np.maximum(share, 1e-6)
    return np.where(known, held - soft, 0.0)


def _spread(detail: Array) -> float:
    """How much detail there is away from the edges."""
    edge = min(round(5 * _SOFT), min(detail.shape) // 4)
    inner = detail[edge:-edge, edge:-edge]
    return float(inner.std())


def _taper(size: int) -> Array:
    turn = np.arange(size) * (2 * np.pi / size)
    return np.asarray(0.42 - 0.5 * np.cos(turn) + 0.08 * np.cos(2 * turn))


def _spectra(one: Array, other: Array) -> npt.NDArray[np.complex128]:
    """The cross spectrum of two tapered pictures."""
    window = np.outer(*(_taper(size) for size in one.shape))
    first, second = (scipy("fft").rfft2(picture * window) for picture in (one, other))
    return np.asarray(second * np.conj(first))


def _whole_cells(one: Array, other: Array) -> tuple[int, int] | Untold:
    """Rows and columns of the peak of the correlation, if there is one alone."""
    peak = scipy("fft").irfft2(_spectra(one, other), s=one.shape)
    row, column = np.unravel_index(int(peak.argmax()), peak.shape)
    highest = float(peak[row, column])
    powers = [float(scipy("fft").irfft2(_spectra(each, each), s=each.shape)[0, 0]) for each in (one, other)]
    if highest <= _LIKE * math.sqrt(max(powers[0] * powers[1], 0.0)):
        return Untold.UNLIKE
    rows, columns = one.shape
    around = np.roll(peak, (rows // 2 - int(row), columns // 2 - int(column)), (0, 1)) > _AGAIN * highest
    lobes, count = scipy("ndimage").label(around)
    lobe = scipy("ndimage").find_objects(lobes)[lobes[rows // 2, columns // 2] - 1]
    if count > 1 or any(part.stop - part.start > min(rows, columns) // 4 for part in lobe):
        return Untold.PERIODIC
    off = (int(row) + rows // 2) % rows - rows // 2, (int(column) + columns // 2) % columns - columns // 2
    return off if max(map(abs, off)) <= min(one.shape) // 4 else Untold.UNLIKE


def _parts(one: Array, other: Array, row: float, column: float) -> Displacement | Untold:
    pad = min(PAD, min(one.shape) // 8)
    up, left = max(0, -round(row)), max(0, -round(column))
    down, right = max(0, round(row)), max(0, round(column))
    rows, columns = one.shape  # what both show of the same ground
    first = one[up : rows - down, left : columns - right]
    second = other[down : rows - up, right : columns - left]
    inner = (slice(pad, first.shape[0] - pad), slice(pad, first.shape[1] - pad))
    rest_row, rest_column, alike = row - round(row), column - round(column), 0.0
    splines, low = scipy("ndimage").spline_filter(second, order=3), _Low(first[inner].shape)
    for _ in range(_ROUNDS):
        by_now = -rest_row, -rest_column
        moved = scipy("ndimage").shift(splines, by_now, order=3, mode="nearest", prefilter=False)
        by = low.slope(_spectra(first[inner], moved[inner]))
        if by is None:
            return Untold.FLAT
        rest_row, rest_column, alike = rest_row + by[0], rest_column + by[1], by[2]
        if max(abs(rest_row), abs(rest_column)) > pad:
            return Untold.UNLIKE
        if max(abs(by[0]), abs(by[1])) < _STILL:
            break
    if alike < _ALIKE:
        return Untold.UNLIKE
    return Displacement(round(column) + rest_column, round(row) + rest_row, alike)


class _Low:
    """The low frequencies of pictures of a shape."""

    def __init__(self, shape: tuple[int, int]) -> None:
        down, across = np.meshgrid(
            scipy("fft").fftfreq(shape[0]), scipy("fft").rfftfreq(shape[1]), indexing="ij"
        )
        self._used = (np.hypot(down, across) < _HIGHEST) & (np.abs(down) + across > 0)
        self._down, self._across = down[self._used], across[self._used]

    def slope(self, spectrum: npt.NDArray[np.complex128]) -> tuple[float, float, float] | None:
        """Rows and columns whose phases fit best, and how far they agree; None if a direction has none."""
        cross, down, across = spectrum[self._used], self._down, self._across
        weight = np.abs(cross)
        total = float(weight.sum())
        products = (down * down, across * across, down * across)
        rr, cc, rc = (float((weight * product).sum()) for product in products)
        if total <= 0 or rr * cc - rc * rc < 1e-6 * (rr + cc) ** 2:
            return None
        row = column = 0.0
        for _ in range(_STEPS):
            phase = np.angle(cross * np.exp(2j * np.pi * (down * row + across * column)))
            r, c = (-float((weight * axis * phase).sum()) / (2 * np.pi) for axis in (down, across))
            row += (cc * r - rc * c) / (rr * cc - rc * rc)
            column += (rr * c - rc * r) / (rr * cc - rc * rc)
        turned = cross * np.exp(2j * np.pi * (down * row + across * column))
        return row, column, float(np.abs(turned.sum())) / total
