"""Mercator projections of the sphere and the ellipsoid."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from zembrel.geodesy.ellipsoid import Array, Ellipsoid


@dataclass(frozen=True)
class PseudoMercator:
    """Spherical formulas with ellipsoidal latitudes, as web maps use them.

    Source: IOGP Guidance Note 7-2, Popular Visualisation Pseudo Mercator (EPSG method 1024).
    """

    radius: float
    lon_origin: float
    false_easting: float
    false_northing: float

    def forward(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        with np.errstate(all="ignore"):
            x = self.false_easting + self.radius * (lon - self.lon_origin)
            y = self.false_northing + self.radius * np.arcsinh(np.tan(lat))
        inside = np.abs(lat) < math.pi / 2 - 1e-9
        return np.where(inside, x, np.nan), np.where(inside, y, np.nan)

    def inverse(self, x: Array, y: Array) -> tuple[Array, Array]:
        lon = self.lon_origin + (x - self.false_easting) / self.radius
        return lon, np.arctan(np.sinh((y - self.false_northing) / self.radius))


def pseudo(ellipsoid: Ellipsoid, parameters: Mapping[int, float]) -> PseudoMercator:
    """Pseudo Mercator from EPSG parameters 8802 (longitude of origin), 8806 and 8807."""
    return PseudoMercator(
        ellipsoid.semi_major, parameters.get(8802, 0.0), parameters.get(8806, 0.0), parameters.get(8807, 0.0)
    )
