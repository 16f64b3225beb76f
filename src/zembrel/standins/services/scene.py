"""What there is to see at a place, and where the cells of a picture are.

Sources: IOGP guidance note 7-2, "Popular Visualisation Pseudo-Mercator" and "Transverse Mercator" (the series
of Krueger to the fourth power of n), written out here once more so that a service is no echo of its client.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[Any]
Box = tuple[float, float, float, float]
_A, _F = 6_378_137.0, 1 / 298.257223563
_N = _F / (2 - _F)
_RADIUS = _A / (1 + _N) * (1 + _N**2 / 4 + _N**4 / 64)
_BACK = (
    _N / 2 - 2 * _N**2 / 3 + 37 * _N**3 / 96 - _N**4 / 360,
    _N**2 / 48 + _N**3 / 15 - 437 * _N**4 / 1440,
    17 * _N**3 / 480 - 37 * _N**4 / 840,
    4397 * _N**4 / 161280,
)


class Seen(NamedTuple):
    """Red, green and blue (3, n) of bytes, heights (n,) in metres and land cover codes (n,)."""

    colours: Array
    heights: Array
    codes: Array


Scene = Callable[[Array, Array], Seen]


def degrees_of(code: int, x: Array, y: Array) -> tuple[Array, Array]:
    """Longitude and latitude of places in EPSG:3857, 4326 or a northern zone of UTM. Raises ValueError."""
    if code == 4326:
        return x, y
    if code == 3857:
        return np.degrees(x / _A), np.degrees(2 * np.arctan(np.exp(y / _A)) - math.pi / 2)
    if not 32601 <= code <= 32660:
        raise ValueError(f"EPSG:{code} is not served")
    xi, eta = y / (0.9996 * _RADIUS), (x - 500_000) / (0.9996 * _RADIUS)
    up, across = xi.copy(), eta.copy()
    for n, b in enumerate(_BACK, 1):
        up -= b * np.sin(2 * n * xi) * np.cosh(2 * n * eta)
        across -= b * np.cos(2 * n * xi) * np.sinh(2 * n * eta)
    sine = np.sin(up) / np.cosh(across)
    e = math.sqrt(_F * (2 - _F))
    tau = start = np.tan(np.arcsin(sine))
    for _ in range(4):  # conformal to geodetic latitude, by Newton's method
        part = np.sinh(e * np.arctanh(e * tau / np.sqrt(1 + tau**2)))
        there = tau * np.sqrt(1 + part**2) - part * np.sqrt(1 + tau**2)
        slope = np.sqrt((1 + there**2) * (1 + tau**2)) * (1 - e**2) / (1 + (1 - e**2) * tau**2)
        tau = tau + (start - there) / slope
    middle = (code - 32600) * 6 - 183
    return middle + np.degrees(np.arctan2(np.sinh(across), np.cos(up))), np.degrees(np.arctan(tau))


def seen_in(scene: Scene, code: int, box: Box, columns: int, rows: int) -> Seen:
    """The scene in a picture: west, south, east and north in the CRS, cells by their centres."""
    west, south, east, north = box
    x = west + (np.arange(columns) + 0.5) * (east - west) / columns
    y = north - (np.arange(rows) + 0.5) * (north - south) / rows
    u, v = np.meshgrid(x, y)
    lon, lat = degrees_of(code, u.ravel(), v.ravel())
    found = scene((lon + 180) % 360 - 180, lat)
    shape = (rows, columns)
    return Seen(found.colours.reshape(3, *shape), found.heights.reshape(shape), found.codes.reshape(shape))
