"""Stored colour samples as red, green and blue.

Sources: TIFF 6.0, sections 16 (CMYK), 21 (YCbCr) and 23 (CIE L*a*b*); IEC 61966-2-1 (sRGB); the matrix
from XYZ under D50 to linear sRGB by way of the Bradford adaptation, as ICC.1:2022 has it.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.formats.tiff import tags

Cells = npt.NDArray[Any]
WHITE_D50 = (0.96422, 1.0, 0.82521)
_XYZ_TO_SRGB = (
    (3.1338561, -1.6168667, -0.4906146),
    (-0.9787684, 1.9161415, 0.0334540),
    (0.0719453, -0.2289914, 1.4052427),
)  # fmt: skip
_RED_WEIGHT, _BLUE_WEIGHT = 0.299, 0.114  # of luma, ITU-R BT.601, what TIFF 6.0 assumes if not told


class Model(NamedTuple):
    """How `samples` stored samples, (samples, ...), become red, green and blue, (3, ...), of one type."""

    name: str
    samples: int
    convert: Callable[[Cells], Cells]


def from_cmyk(stored: Cells) -> Cells:
    """Red, green and blue of inks: each the light that neither the ink nor the black takes away."""
    top = int(np.iinfo(stored.dtype).max)
    wide = stored.astype(np.uint64)
    light = (top - wide[:3]) * (top - wide[3])
    shown: Cells = ((2 * light + top) // (2 * top)).astype(stored.dtype)
    return shown


def from_ycbcr(stored: Cells) -> Cells:
    """Red, green and blue of luma and two differences centred at 128 (bytes)."""
    y, cb, cr = stored.astype(np.float32)
    red = y + (2 - 2 * _RED_WEIGHT) * (cr - 128)
    blue = y + (2 - 2 * _BLUE_WEIGHT) * (cb - 128)
    green = (y - _RED_WEIGHT * red - _BLUE_WEIGHT * blue) / (1 - _RED_WEIGHT - _BLUE_WEIGHT)
    return np.clip(np.floor(np.stack([red, green, blue]) + 0.5), 0, 255).astype(np.uint8)


def _from_lab(stored: Cells, *, offset: bool) -> Cells:
    """sRGB of CIE L*a*b* under D50 in bytes or 16-bit words; `offset`: a and b are stored plus half."""
    top = float(np.iinfo(stored.dtype).max)
    signed = stored[1:].astype(np.int32) - (int(top + 1) // 2 if offset else 0)
    if not offset:
        signed = stored[1:].view(f"i{stored.itemsize}").astype(np.int32)
    light = stored[0].astype(np.float64) * (100 / top)
    a, b = signed / (1.0 if stored.itemsize == 1 else 256.0)
    middle = (light + 16) / 116
    nodes = np.stack([middle + a / 500, middle, middle - b / 200])
    edge = 6 / 29
    shares = np.where(nodes > edge, nodes**3, 3 * edge**2 * (nodes - 4 / 29))
    white = np.reshape(WHITE_D50, (3, *[1] * (stored.ndim - 1)))
    linear = np.clip(np.tensordot(np.array(_XYZ_TO_SRGB), shares * white, axes=1), 0, 1)
    bent = np.where(linear <= 0.0031308, 12.92 * linear, 1.055 * linear ** (1 / 2.4) - 0.055)
    return np.floor(bent * top + 0.5).astype(stored.dtype)


def from_lab(stored: Cells) -> Cells:
    """sRGB of CIE L*a*b*, a and b signed."""
    return _from_lab(np.ascontiguousarray(stored), offset=False)


def from_icc_lab(stored: Cells) -> Cells:
    """sRGB of CIE L*a*b*, a and b stored with an offset of half their range."""
    return _from_lab(stored, offset=True)


_MODELS = {
    tags.CMYK: Model("CMYK", 4, from_cmyk),
    tags.YCBCR: Model("YCbCr", 3, from_ycbcr),
    tags.CIELAB: Model("CIE L*a*b*", 3, from_lab),
    tags.ICCLAB: Model("CIE L*a*b*", 3, from_icc_lab),
}


def model_of(photometric: int, samples: int, dtype: np.dtype[Any]) -> Model | None:
    """The model of an image of `samples` samples that is not stored as red, green and blue."""
    model = _MODELS.get(photometric)
    if model is None or samples < model.samples or dtype.kind != "u" or dtype.itemsize > 2:
        return None
    return model if dtype.itemsize == 1 or model.name != "YCbCr" else None


def apart(data: bytes | bytearray, shape: tuple[int, int, int], subsampling: tuple[int, int]) -> Cells:
    """Cells (rows, columns, 3) of subsampled YCbCr bytes: units of h x v luma samples, one Cb, one Cr."""
    rows, columns, _ = shape
    across, down = subsampling
    units = (-(-rows // down), -(-columns // across))
    due = units[0] * units[1] * (across * down + 2)
    if len(data) < due:
        raise ValueError(f"{len(data):,} bytes where {due:,} are due")
    packed = np.frombuffer(data, np.uint8, due).reshape(*units, across * down + 2)
    luma = packed[:, :, :-2].reshape(*units, down, across).transpose(0, 2, 1, 3)
    cells = np.empty((units[0] * down, units[1] * across, 3), np.uint8)
    cells[:, :, 0] = luma.reshape(cells.shape[:2])
    for n in (1, 2):
        cells[:, :, n] = np.repeat(np.repeat(packed[:, :, n - 3], down, axis=0), across, axis=1)
    return cells[:rows, :columns]


def release(cells: Cells, at: int) -> None:
    """Divide colours that were stored multiplied by opacity (TIFF 6.0, section 18, associated) by it.

    cells: (samples, rows, columns), changed in place; `at` is the sample that is opacity.
    """
    alpha = cells[at]
    top = int(np.iinfo(alpha.dtype).max)
    soft = (alpha > 0) & (alpha < top)
    if not soft.any():
        return
    for layer in (cells[n] for n in range(len(cells)) if n != at):
        full = (layer[soft].astype(np.float64) * (top / alpha[soft]) + 0.5).clip(0, top)
        layer[soft] = full.astype(cells.dtype)
