"""Colours as they are seen: CIE L*a*b* of sRGB, in which distances are differences that people see.

Sources: IEC 61966-2-1 (sRGB); CIE 15:2004, "Colorimetry", 8.2.1 (L*a*b*, D65).
"""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[np.float64]
_TO_XYZ = np.array(
    [
        [0.4124564, 0.3575761, 0.1804375],
        [0.2126729, 0.7151522, 0.0721750],
        [0.0193339, 0.1191920, 0.9503041],
    ]
)
_WHITE = _TO_XYZ.sum(axis=1)
_EDGE, _SLOPE = 216 / 24389, 24389 / 27  # where the cube root ends, and the line below it


def to_lab(colours: npt.NDArray[Any]) -> Array:
    """L*, a* and b* (..., 3) of red, green and blue (..., 3) of 0 to 255."""
    shares = np.asarray(colours, np.float64) / 255
    light = np.where(shares <= 0.04045, shares / 12.92, ((shares + 0.055) / 1.055) ** 2.4)
    xyz = light @ _TO_XYZ.T / _WHITE
    x, y, z = np.moveaxis(np.where(xyz > _EDGE, np.cbrt(xyz), (_SLOPE * xyz + 16) / 116), -1, 0)
    return np.stack([116 * y - 16, 500 * (x - y), 200 * (y - z)], axis=-1)


def difference(one: npt.NDArray[Any], other: npt.NDArray[Any]) -> Array:
    """How unlike colours (..., 3) look: their distance in L*a*b*; about 2 can be told apart side by side."""
    away: Array = np.linalg.norm(to_lab(one) - to_lab(other), axis=-1)
    return away
