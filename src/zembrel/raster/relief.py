"""Light and shade on a surface.

Source: B. K. P. Horn, "Hill shading and the reflectance map", Proceedings of the IEEE 69 (1981), for a
perfectly matt surface; slopes from the valid neighbours on both sides, or on one.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import numpy.typing as npt

from zembrel.geodesy.sun import Sun

Array = npt.NDArray[Any]
AMBIENT, DIRECT, BRIGHTEST = 0.35, 0.92, 1.25  # shares of light from the sky and the sun, and the most of it


NORTH_WEST = Sun()


def light(heights: Array, valid: Array, cell: tuple[float, float], sun: Sun = NORTH_WEST) -> Array:
    """How bright each cell is, (rows, columns); 0 on what faces away from the sun.

    heights and cell (along x, y) in one unit; row 0 lies north.
    """
    down = differences(heights, valid, 0) / cell[1]
    across = differences(heights, valid, 1) / cell[0]
    azimuth, altitude = math.radians(sun.azimuth), math.radians(sun.altitude)
    east, north = math.cos(altitude) * math.sin(azimuth), math.cos(altitude) * math.cos(azimuth)
    bright = (-across * east + down * north + math.sin(altitude)) / np.sqrt(across**2 + down**2 + 1)
    lit: Array = np.clip(AMBIENT + DIRECT * bright, 0, BRIGHTEST)
    return lit


def differences(heights: Array, valid: Array, axis: int) -> Array:
    """Change per cell along `axis`, from the valid neighbours on both sides or on one; 0 without any."""
    cells, known = np.moveaxis(np.where(valid, heights, 0), axis, 0), np.moveaxis(valid, axis, 0)
    both = known[1:] & known[:-1]
    steps, counts = np.where(both, np.diff(cells, axis=0), 0.0), both.astype(float)
    edge = np.zeros((1, *cells.shape[1:]))
    total = np.concatenate([edge, steps]) + np.concatenate([steps, edge])
    count = np.concatenate([edge, counts]) + np.concatenate([counts, edge])
    return np.moveaxis(total / np.maximum(count, 1), 0, axis)
