"""Transverse Mercator by the Krüger series to sixth order in the third flattening.

Source: C. F. F. Karney, "Transverse Mercator with an accuracy of a few nanometers", Journal of
Geodesy 85 (2011), equations 7 to 11, 35 and 36; EPSG method 9807. Within 35 degrees of the central
meridian the series is good to some nanometres.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import TypeVar

import numpy as np
import numpy.typing as npt

from zembrel.geodesy.ellipsoid import Array, Ellipsoid

Complex = npt.NDArray[np.complex128]
Angle = TypeVar("Angle", Complex, Array)
# Row j - 1 holds the factors of n^j ... n^6 of the j-th coefficient.
_FORWARD = (
    (1 / 2, -2 / 3, 5 / 16, 41 / 180, -127 / 288, 7891 / 37800),
    (13 / 48, -3 / 5, 557 / 1440, 281 / 630, -1983433 / 1935360),
    (61 / 240, -103 / 140, 15061 / 26880, 167603 / 181440),
    (49561 / 161280, -179 / 168, 6601661 / 7257600),
    (34729 / 80640, -3418889 / 1995840),
    (212378941 / 319334400,),
)
_INVERSE = (
    (1 / 2, -2 / 3, 37 / 96, -1 / 360, -81 / 512, 96199 / 604800),
    (1 / 48, 1 / 15, -437 / 1440, 46 / 105, -1118711 / 3870720),
    (17 / 480, -37 / 840, -209 / 4480, 5569 / 90720),
    (4397 / 161280, -11 / 504, -830251 / 7257600),
    (4583 / 161280, -108847 / 3991680),
    (20648693 / 638668800,),
)
# Geodetic latitude from conformal latitude: Karney, "On auxiliary latitudes", Survey Review 56
# (2024), equation A5.
_GEODETIC = (
    (2, -2 / 3, -2, 116 / 45, 26 / 45, -2854 / 675),
    (7 / 3, -8 / 5, -227 / 45, 2704 / 315, 2323 / 945),
    (56 / 15, -136 / 35, -1262 / 105, 73814 / 2835),
    (4279 / 630, -332 / 35, -399572 / 14175),
    (4174 / 315, -144838 / 6237),
    (601676 / 22275,),
)
WIDEST = math.radians(80)  # of longitude from the central meridian; beyond it the series decays
_CHUNK = 8192  # points at a time, so that the temporaries stay in the processor's cache


def _coefficients(rows: tuple[tuple[float, ...], ...], n: float) -> tuple[float, ...]:
    return tuple(sum(c * n**p for p, c in enumerate(row, order)) for order, row in enumerate(rows, 1))


def _sine_series(coefficients: tuple[float, ...], angle: Angle) -> Angle:
    """Sum of c_j sin(2 j angle), by Clenshaw's recurrence."""
    twice = 2 * np.cos(2 * angle)
    later, last = np.zeros_like(angle), np.zeros_like(angle)
    for c in reversed(coefficients):
        later, last = twice * later - last + c, later
    return later * np.sin(2 * angle)


@dataclass(frozen=True)
class TransverseMercator:
    """Longitudes and latitudes in radians; metres out."""

    ellipsoid: Ellipsoid
    lat_origin: float
    lon_origin: float
    scale: float
    false_easting: float
    false_northing: float

    @cached_property
    def _radius(self) -> float:
        """Scaled radius of the rectifying sphere, metres."""
        n = self.ellipsoid.third_flattening
        return self.scale * self.ellipsoid.semi_major / (1 + n) * (1 + n**2 / 4 + n**4 / 64 + n**6 / 256)

    @cached_property
    def _series(self) -> tuple[tuple[float, ...], ...]:
        n = self.ellipsoid.third_flattening
        return tuple(_coefficients(rows, n) for rows in (_FORWARD, _INVERSE, _GEODETIC))

    @cached_property
    def _northing_of_equator(self) -> float:
        if abs(self.lat_origin) >= math.pi / 2 - 1e-12:  # a pole is a quarter of the meridian away
            northing = math.copysign(self._radius * math.pi / 2, self.lat_origin)
        else:
            zero = np.zeros(1)
            northing = float(self._plane(zero, np.full(1, self.lat_origin))[1][0])
        return self.false_northing - northing

    def forward(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        """Easting and northing; NaN more than 80 degrees of longitude from the central meridian."""
        lon, lat = np.broadcast_arrays(lon, lat)
        x, y = np.empty(lon.shape), np.empty(lon.shape)
        for part in _chunks(lon.size):
            away = np.mod(lon.ravel()[part] - self.lon_origin + math.pi, math.tau) - math.pi
            east, north = self._plane(away, lat.ravel()[part])
            x.ravel()[part] = self.false_easting + east
            y.ravel()[part] = self._northing_of_equator + north
        return x, y

    def _plane(self, away: Array, lat: Array) -> tuple[Array, Array]:
        e = self.ellipsoid.eccentricity
        with np.errstate(invalid="ignore"):
            sine = np.sin(lat)
            # tangent of the conformal latitude
            tangent = np.sinh(np.arctanh(np.clip(sine, -1 + 1e-16, 1 - 1e-16)) - e * np.arctanh(e * sine))
            across = np.cos(away)
            zeta = np.arctan2(tangent, across) + 1j * np.arcsinh(np.sin(away) / np.hypot(tangent, across))
            zeta = zeta + _sine_series(self._series[0], zeta)
            zeta[~((np.abs(away) <= WIDEST) & (np.abs(lat) <= math.pi / 2 + 1e-12))] = complex("nan+nanj")
        return self._radius * zeta.imag, self._radius * zeta.real

    def inverse(self, x: Array, y: Array) -> tuple[Array, Array]:
        """Longitude and latitude; NaN where `forward` never leads."""
        x, y = np.broadcast_arrays(x, y)
        lon, lat = np.empty(x.shape), np.empty(x.shape)
        for part in _chunks(x.size):
            eastings = x.ravel()[part] - self.false_easting
            northings = y.ravel()[part] - self._northing_of_equator
            away, lat.ravel()[part] = self._globe(eastings, northings)
            lon.ravel()[part] = np.mod(away + self.lon_origin + math.pi, math.tau) - math.pi
        return lon, lat

    def _globe(self, east: Array, north: Array) -> tuple[Array, Array]:
        with np.errstate(invalid="ignore", over="ignore"):
            zeta = (north + 1j * east) / self._radius
            outside = (np.abs(zeta.real) > math.pi / 2 + 1e-9) | (np.abs(zeta.imag) > 2.5)
            zeta = zeta - _sine_series(self._series[1], zeta)
            away = np.arctan2(np.sinh(zeta.imag), np.cos(zeta.real))
            conformal = np.arcsin(np.clip(np.sin(zeta.real) / np.cosh(zeta.imag), -1, 1))
            lat = conformal + _sine_series(self._series[2], conformal)
        outside |= np.abs(away) > WIDEST
        return np.where(outside, np.nan, away), np.where(outside, np.nan, lat).real


def _chunks(size: int) -> list[slice]:
    return [slice(start, start + _CHUNK) for start in range(0, size, _CHUNK)]


def build(ellipsoid: Ellipsoid, parameters: Mapping[int, float]) -> TransverseMercator:
    """Transverse Mercator from EPSG parameters 8801, 8802, 8805, 8806 and 8807."""
    lat, lon, scale, easting, northing = (parameters[code] for code in (8801, 8802, 8805, 8806, 8807))
    return TransverseMercator(ellipsoid, lat, lon, scale, easting, northing)
