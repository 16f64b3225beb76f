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

from zembrel.geodesy import latitudes
from zembrel.geodesy.angles import double_angle
from zembrel.geodesy.ellipsoid import Array, Ellipsoid
from zembrel.geodesy.latitudes import Coefficients, coefficients
from zembrel.geodesy.projections.placed import Placed

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
WIDEST = math.radians(80)  # of longitude from the central meridian; beyond it the series decays


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
    """EPSG 9807; longitudes up to 80 degrees from the central meridian."""

    ellipsoid: Ellipsoid
    lat_origin: float
    scale: float

    @cached_property
    def _radius(self) -> float:
        """Scaled radius of the rectifying sphere, metres."""
        return self.scale * latitudes.rectifying_radius(self.ellipsoid)

    @cached_property
    def _series(self) -> tuple[Coefficients, Coefficients]:
        n = self.ellipsoid.third_flattening
        return coefficients(_FORWARD, n), coefficients(_INVERSE, n)

    @cached_property
    def _origin(self) -> float:
        """From the equator to the origin, metres; a pole is a quarter of the meridian away."""
        if abs(self.lat_origin) >= math.pi / 2 - 1e-12:
            return math.copysign(self._radius * math.pi / 2, self.lat_origin)
        return self.scale * float(latitudes.meridian_arc(self.ellipsoid, np.array([self.lat_origin]))[0])

    def forward(self, away: Array, lat: Array) -> tuple[Array, Array]:
        tangent = np.tan(latitudes.conformal(self.ellipsoid, lat))
        along, across = double_angle(np.tan(away / 2))
        square = tangent * tangent + across * across
        slope = along / np.sqrt(square)  # sinh of eta
        doubled = 2 * slope * np.sqrt(1 + slope * slope), 1 + 2 * slope * slope
        sine, cosine = 2 * tangent * across / square, (across * across - tangent * tangent) / square
        north, east = _complex_sum(self._series[0], sine, cosine, *doubled)
        north += np.arctan2(tangent, across)
        east += np.arcsinh(slope)
        east[np.abs(away) > WIDEST] = np.nan
        return self._radius * east, self._radius * north - self._origin

    def inverse(self, east: Array, north: Array) -> tuple[Array, Array]:
        xi, eta = (north + self._origin) / self._radius, east / self._radius
        beyond = (np.abs(xi) > math.pi / 2 + 1e-9) | (np.abs(eta) > 2.5)
        growth = np.exp(2 * eta)
        doubled = (growth - 1 / growth) / 2, (growth + 1 / growth) / 2
        less_xi, less_eta = _complex_sum(self._series[1], *double_angle(np.tan(xi)), *doubled)
        xi, eta = xi - less_xi, eta - less_eta
        slope, (up, across) = np.sinh(eta), double_angle(np.tan(xi / 2))
        away = np.arctan2(slope, across)
        away[beyond | (np.abs(away) > WIDEST)] = np.nan
        return away, latitudes.from_conformal(self.ellipsoid, up / np.sqrt(slope * slope + across * across))


def build(ellipsoid: Ellipsoid, p: Mapping[int, float]) -> Placed:
    """Transverse Mercator (EPSG 9807, 1111) from parameters 8801, 8802, 8805, 8806 and 8807."""
    return Placed(TransverseMercator(ellipsoid, p[8801], p[8805]), p[8802], p[8806], p[8807])


def build_south_orientated(ellipsoid: Ellipsoid, p: Mapping[int, float]) -> Placed:
    """EPSG 9808: westings and southings are registered; x = -westing and y = -southing come out here."""
    return build(ellipsoid, {**p, 8806: -p[8806], 8807: -p[8807]})


@dataclass(frozen=True)
class ZonedTransverseMercator:
    """EPSG 9824: the zone's number stands before the easting, as millions of metres."""

    ellipsoid: Ellipsoid
    parameters: tuple[tuple[int, float], ...]

    def _zone(self, number: int) -> Placed:
        p = dict(self.parameters)
        lon = p[8830] + (number - 0.5) * p[8831]
        easting = p[8806] + number * 1e6
        return build(self.ellipsoid, {**p, 8802: lon, 8806: easting})

    def forward(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        lon, lat = np.broadcast_arrays(lon, lat)
        p = dict(self.parameters)
        with np.errstate(invalid="ignore"):
            zones = np.floor(np.mod(lon - p[8830], math.tau) / p[8831]) + 1
        return self._by_zone(zones, lon, lat, "forward")

    def inverse(self, x: Array, y: Array) -> tuple[Array, Array]:
        x, y = np.broadcast_arrays(x, y)
        with np.errstate(invalid="ignore"):
            zones = np.floor(x / 1e6)
        last = round(math.tau / dict(self.parameters)[8831])
        return self._by_zone(np.where((zones >= 1) & (zones <= last), zones, np.nan), x, y, "inverse")

    def _by_zone(self, zones: Array, one: Array, other: Array, way: str) -> tuple[Array, Array]:
        results = np.full((2, *one.shape), np.nan)
        for number in np.unique(zones[np.isfinite(zones)]):
            here = zones == number
            results[:, here] = getattr(self._zone(int(number)), way)(one[here], other[here])
        return results[0], results[1]


def build_zoned(ellipsoid: Ellipsoid, parameters: Mapping[int, float]) -> ZonedTransverseMercator:
    """EPSG 9824, from parameters 8801, 8805, 8806, 8807, 8830 and 8831."""
    return ZonedTransverseMercator(ellipsoid, tuple(sorted(parameters.items())))
