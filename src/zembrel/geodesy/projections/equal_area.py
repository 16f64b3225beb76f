"""Equal-area projections: Albers, Lambert azimuthal and cylindrical, Equal Earth.

Source: IOGP Guidance Note 7-2 (EPSG 9822, 9820, 1027, 9835, 9834, 1078).
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from zembrel.geodesy.ellipsoid import Array, Ellipsoid
from zembrel.geodesy.latitudes import authalic_q, authalic_radius, from_authalic, pole_q, sine_of_authalic
from zembrel.geodesy.projections.placed import Placed

Parameters = Mapping[int, float]
_OVER = 1e-12  # by which a sine may pass 1 at the poles


def _arcsine(sine: Array) -> Array:
    """NaN for sines that are none."""
    return np.where(np.abs(sine) < 1 + _OVER, np.arcsin(np.clip(sine, -1, 1)), np.nan)


@dataclass(frozen=True)
class Albers:
    """EPSG 9822: a cone with two true parallels."""

    ellipsoid: Ellipsoid
    first: float
    second: float
    lat_origin: float

    @cached_property
    def _cone(self) -> tuple[float, float, float]:
        """Cone constant, C, and the radius of the false origin over the semi-major axis."""
        a = self.ellipsoid.semi_major
        sines = np.sin([self.first, self.second, self.lat_origin])
        q = authalic_q(self.ellipsoid, sines)
        m = [float(self.ellipsoid.parallel_radius(lat)) / a for lat in (self.first, self.second)]
        same = abs(self.first - self.second) < 1e-10
        n = float(sines[0]) if same else (m[0] ** 2 - m[1] ** 2) / float(q[1] - q[0])
        c = m[0] ** 2 + n * float(q[0])
        return n, c, math.sqrt(max(c - n * float(q[2]), 0.0)) / n

    def forward(self, away: Array, lat: Array) -> tuple[Array, Array]:
        (n, c, origin), a = self._cone, self.ellipsoid.semi_major
        radius = a * np.sqrt(c - n * authalic_q(self.ellipsoid, np.sin(lat))) / n
        return radius * np.sin(n * away), a * origin - radius * np.cos(n * away)

    def inverse(self, east: Array, north: Array) -> tuple[Array, Array]:
        (n, c, origin), a = self._cone, self.ellipsoid.semi_major
        sign = math.copysign(1.0, n)
        east, down = sign * east, sign * (a * origin - north)
        q = (c - (np.hypot(east, down) * n / a) ** 2) / n
        lat = from_authalic(self.ellipsoid, _arcsine(q / pole_q(self.ellipsoid)))
        return np.arctan2(east, down) / n, lat


def albers(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    """From parameters 8821 to 8824, 8826 and 8827."""
    return Placed(Albers(ellipsoid, p[8823], p[8824], p[8821]), p[8822], p[8826], p[8827])


@dataclass(frozen=True)
class LambertAzimuthal:
    """EPSG 9820; `spherical` (1027) takes geodetic latitudes to the sphere of equal surface as they are."""

    ellipsoid: Ellipsoid
    lat_origin: float
    spherical: bool = False

    @cached_property
    def _origin(self) -> tuple[float, float, float]:
        """Sine and cosine of the authalic latitude of the origin, and the stretch D along x."""
        sine = float(self._sine(np.array([self.lat_origin]))[0])
        if abs(abs(self.lat_origin) - math.pi / 2) < 1e-9:
            return math.copysign(1.0, sine), 0.0, 1.0
        cosine = math.sqrt(1 - sine * sine)
        if self.spherical:
            return sine, cosine, 1.0
        radius = float(self.ellipsoid.parallel_radius(self.lat_origin))
        return sine, cosine, radius / (authalic_radius(self.ellipsoid) * cosine)

    def _sine(self, lat: Array) -> Array:
        return np.sin(lat) if self.spherical else sine_of_authalic(self.ellipsoid, lat)

    def forward(self, away: Array, lat: Array) -> tuple[Array, Array]:
        (sine0, cosine0, stretch), sine = self._origin, self._sine(lat)
        cosine = np.sqrt(1 - sine * sine)
        nearness = 1 + sine0 * sine + cosine0 * cosine * np.cos(away)
        size = authalic_radius(self.ellipsoid) * np.sqrt(2 / np.where(nearness > 1e-12, nearness, np.nan))
        east = size * stretch * cosine * np.sin(away)
        return east, size / stretch * (cosine0 * sine - sine0 * cosine * np.cos(away))

    def inverse(self, east: Array, north: Array) -> tuple[Array, Array]:
        sine0, cosine0, stretch = self._origin
        east, north = east / stretch, north * stretch
        reach = np.hypot(east, north)
        twice = 2 * np.arcsin(reach / (2 * authalic_radius(self.ellipsoid)))
        sine, cosine = np.sin(twice), np.cos(twice)
        share = np.where(reach > 0, north * sine / reach, 0.0)
        beta = np.arcsin(np.clip(cosine * sine0 + share * cosine0, -1, 1))
        away = np.arctan2(east * sine, reach * cosine0 * cosine - north * sine0 * sine)
        return np.where(reach > 0, away, 0.0), beta if self.spherical else from_authalic(self.ellipsoid, beta)


def lambert_azimuthal(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    return Placed(LambertAzimuthal(ellipsoid, p[8801]), p[8802], p[8806], p[8807])


def spherical_lambert_azimuthal(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    return Placed(LambertAzimuthal(ellipsoid, p[8801], spherical=True), p[8802], p[8806], p[8807])


@dataclass(frozen=True)
class EqualAreaCylinder:
    """EPSG 9835, and 9834 on a sphere."""

    ellipsoid: Ellipsoid
    lat_true: float

    @cached_property
    def _sizes(self) -> tuple[float, float]:
        """Metres per radian of longitude, and per unit of the sine of authalic latitude."""
        across = float(self.ellipsoid.parallel_radius(self.lat_true))
        return across, authalic_radius(self.ellipsoid) ** 2 / across

    def forward(self, away: Array, lat: Array) -> tuple[Array, Array]:
        across, up = self._sizes
        return across * away, up * sine_of_authalic(self.ellipsoid, lat)

    def inverse(self, east: Array, north: Array) -> tuple[Array, Array]:
        across, up = self._sizes
        return east / across, from_authalic(self.ellipsoid, _arcsine(north / up))


def cylinder(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    plain = EqualAreaCylinder(ellipsoid, p[8823])
    return Placed(plain, p[8802], p[8806], p[8807], endless=True)


def spherical_cylinder(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    """EPSG 9834: geodetic latitudes go to the sphere of equal surface as they are."""
    return cylinder(Ellipsoid("sphere", authalic_radius(ellipsoid), 0.0), p)


_A1, _A2, _A3, _A4 = 1.340264, -0.081106, 0.000893, 0.003796


@dataclass(frozen=True)
class EqualEarth:
    """EPSG 1078. Source: B. Savric, T. Patterson, B. Jenny, International Journal of GIS 33 (2019)."""

    ellipsoid: Ellipsoid

    def forward(self, away: Array, lat: Array) -> tuple[Array, Array]:
        theta = np.arcsin(math.sqrt(3) / 2 * sine_of_authalic(self.ellipsoid, lat))
        radius = authalic_radius(self.ellipsoid)
        east = radius * 2 * away * np.cos(theta) / (math.sqrt(3) * _slope(theta))
        return east, radius * _rise(theta)

    def inverse(self, east: Array, north: Array) -> tuple[Array, Array]:
        radius = authalic_radius(self.ellipsoid)
        up = north / radius
        theta = np.asarray(up, float)
        for _ in range(8):
            theta = theta - (_rise(theta) - up) / _slope(theta)
        beta = np.where(
            np.abs(theta) <= math.pi / 3 + _OVER, np.arcsin(2 * np.sin(theta) / math.sqrt(3)), np.nan
        )
        away = math.sqrt(3) * east * _slope(theta) / (2 * radius * np.cos(theta))
        return away, from_authalic(self.ellipsoid, beta)


def _rise(theta: Array) -> Array:
    square = theta * theta
    return theta * (_A1 + _A2 * square + square**3 * (_A3 + _A4 * square))


def _slope(theta: Array) -> Array:
    square = theta * theta
    return _A1 + 3 * _A2 * square + square**3 * (7 * _A3 + 9 * _A4 * square)


def equal_earth(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    return Placed(EqualEarth(ellipsoid), p[8802], p[8806], p[8807])
