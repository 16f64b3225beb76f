"""Longitude and latitude from a pole elsewhere, as models of weather and climate count them.

Source: CF conventions 1.11, appendix F, rotated pole; the rotation is that of the sphere, as is usual, with
latitudes of the ellipsoid taken as they are. Both sides are angles: the rotated ones here in degrees.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from zembrel.geodesy.angles import wrapped
from zembrel.geodesy.ellipsoid import Array, Ellipsoid
from zembrel.geodesy.projections.methods import POLE_LATITUDE, POLE_LONGITUDE, POLE_WITHIN


@dataclass(frozen=True)
class RotatedPole:
    """The rotated north pole at (lon, lat), the true one at longitude `within` there, all in radians."""

    lon: float
    lat: float
    within: float

    def forward(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        """Rotated longitude and latitude in degrees."""
        away = lon - self.lon
        up = math.sin(self.lat) * np.sin(lat) + math.cos(self.lat) * np.cos(lat) * np.cos(away)
        x = -np.cos(lat) * np.sin(away)
        y = math.cos(self.lat) * np.sin(lat) - math.sin(self.lat) * np.cos(lat) * np.cos(away)
        turned = wrapped(np.arctan2(x, y) + self.within)
        return np.degrees(turned), np.degrees(np.arctan2(up, np.hypot(x, y)))

    def inverse(self, x: Array, y: Array) -> tuple[Array, Array]:
        """Longitude and latitude in radians of rotated ones in degrees; NaN beyond the poles."""
        away, lat = np.radians(x) - self.within, np.radians(y)
        up = math.sin(self.lat) * np.sin(lat) + math.cos(self.lat) * np.cos(lat) * np.cos(away)
        east = -np.cos(lat) * np.sin(away)
        north = math.cos(self.lat) * np.sin(lat) - math.sin(self.lat) * np.cos(lat) * np.cos(away)
        lon = wrapped(np.arctan2(east, north) + self.lon)
        real = np.arctan2(up, np.hypot(east, north))
        return lon, np.where(np.abs(lat) <= math.pi / 2 + 1e-12, real, np.nan)


def rotated_pole(ellipsoid: Ellipsoid, p: Mapping[int, float]) -> RotatedPole:
    return RotatedPole(p[POLE_LONGITUDE], p[POLE_LATITUDE], p[POLE_WITHIN])
