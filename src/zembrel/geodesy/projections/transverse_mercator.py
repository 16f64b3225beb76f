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

import numpy as np

from zembrel.geodesy.ellipsoid import Array, Ellipsoid

Coefficients = tuple[float, ...]
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
# Conformal latitude from geodetic, and back: Karney, "On auxiliary latitudes", Survey Review 56
# (2024), equations A5 and A6.
_CONFORMAL = (
    (-2, 2 / 3, 4 / 3, -82 / 45, 32 / 45, 4642 / 4725),
    (5 / 3, -16 / 15, -13 / 9, 904 / 315, -1522 / 945),
    (-26 / 15, 34 / 21, 8 / 5, -12686 / 2835),
    (1237 / 630, -12 / 5, -24832 / 14175),
    (-734 / 315, 109598 / 31185),
    (444337 / 155925,),
)
_GEODETIC = (
    (2, -2 / 3, -2, 116 / 45, 26 / 45, -2854 / 675),
    (7 / 3, -8 / 5, -227 / 45, 2704 / 315, 2323 / 945),
    (56 / 15, -136 / 35, -1262 / 105, 73814 / 2835),
    (4279 / 630, -332 / 35, -399572 / 14175),
    (4174 / 315, -144838 / 6237),
    (601676 / 22275,),
)
WIDEST = math.radians(80)  # of longitude from the central meridian; beyond it the series decays
_CHUNK = 4096  # points at a time, so that the temporaries stay in the processor's cache


def _coefficients(rows: tuple[Coefficients, ...], n: float) -> Coefficients:
    return tuple(sum(c * n**p for p, c in enumerate(row, order)) for order, row in enumerate(rows, 1))


def _sum(coefficients: Coefficients, sine: Array, cosine: Array) -> Array:
    """Sum of c_j sin(2 j x), given sin 2x and cos 2x, by Clenshaw's recurrence."""
    twice = 2 * cosine
    later, last = twice * coefficients[-1] + coefficients[-2], np.full_like(sine, coefficients[-1])
    for c in coefficients[-3::-1]:
        last *= -1
        last += twice * later
        last += c
        later, last = last, later
    return later * sine


def _complex_sum(
    coefficients: Coefficients, sine: Array, cosine: Array, hyperbolic_sine: Array, hyperbolic_cosine: Array
) -> tuple[Array, Array]:
    """Real and imaginary part of the sum of c_j sin(2 j z) for z = x + iy.

    Given sin 2x, cos 2x, sinh 2y and cosh 2y; real arithmetic, in place, for speed.
    """
    twice_re, twice_im = 2 * cosine * hyperbolic_cosine, -2 * sine * hyperbolic_sine
    re, im = twice_re * coefficients[-1] + coefficients[-2], twice_im * coefficients[-1]
    last_re, last_im = np.full_like(sine, coefficients[-1]), np.zeros_like(sine)
    for c in coefficients[-3::-1]:
        last_re -= c
        new_re = twice_re * re
        new_re -= twice_im * im
        new_re -= last_re
        new_im = twice_re * im
        new_im += twice_im * re
        new_im -= last_im
        last_re, last_im, re, im = re, im, new_re, new_im
    sine_re, sine_im = sine * hyperbolic_cosine, cosine * hyperbolic_sine
    return re * sine_re - im * sine_im, re * sine_im + im * sine_re


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
    def _series(self) -> tuple[Coefficients, ...]:
        n = self.ellipsoid.third_flattening
        return tuple(_coefficients(rows, n) for rows in (_FORWARD, _INVERSE, _CONFORMAL, _GEODETIC))

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
        """Easting and northing from the central meridian and the equator."""
        with np.errstate(invalid="ignore", divide="ignore", over="ignore"):
            conformal = lat + _sum(self._series[2], np.sin(2 * lat), np.cos(2 * lat))
            tangent, across = np.tan(conformal), np.cos(away)
            square = tangent * tangent + across * across
            slope = np.sin(away) / np.sqrt(square)  # sinh of eta
            doubled = 2 * slope * np.sqrt(1 + slope * slope), 1 + 2 * slope * slope
            sine, cosine = 2 * tangent * across / square, (across * across - tangent * tangent) / square
            north, east = _complex_sum(self._series[0], sine, cosine, *doubled)
            north += np.arctan2(tangent, across)
            east += np.arcsinh(slope)
            outside = ~((np.abs(away) <= WIDEST) & (np.abs(lat) <= math.pi / 2 + 1e-12))
        north[outside] = east[outside] = np.nan
        return self._radius * east, self._radius * north

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
        """Longitude from the central meridian, and latitude."""
        with np.errstate(invalid="ignore", over="ignore", divide="ignore"):
            xi, eta = north / self._radius, east / self._radius
            outside = ~((np.abs(xi) <= math.pi / 2 + 1e-9) & (np.abs(eta) <= 2.5))
            growth = np.exp(2 * eta)
            doubled = (growth - 1 / growth) / 2, (growth + 1 / growth) / 2
            less_xi, less_eta = _complex_sum(self._series[1], np.sin(2 * xi), np.cos(2 * xi), *doubled)
            xi, eta = xi - less_xi, eta - less_eta
            slope, across = np.sinh(eta), np.cos(xi)
            away = np.arctan2(slope, across)
            tangent = np.sin(xi) / np.hypot(slope, across)
            square = 1 + tangent * tangent
            lat = np.arctan(tangent)
            lat += _sum(self._series[3], 2 * tangent / square, (1 - tangent * tangent) / square)
            outside |= ~(np.abs(away) <= WIDEST)
        away[outside] = lat[outside] = np.nan
        return away, lat


def _chunks(size: int) -> list[slice]:
    return [slice(start, start + _CHUNK) for start in range(0, size, _CHUNK)]


def build(ellipsoid: Ellipsoid, parameters: Mapping[int, float]) -> TransverseMercator:
    """Transverse Mercator from EPSG parameters 8801, 8802, 8805, 8806 and 8807."""
    lat, lon, scale, easting, northing = (parameters[code] for code in (8801, 8802, 8805, 8806, 8807))
    return TransverseMercator(ellipsoid, lat, lon, scale, easting, northing)
