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
from zembrel.geodesy.projections.conformal_cone import parallel_radius
from zembrel.geodesy.projections.solve import wrapped

Parameters = Mapping[int, float]


@dataclass(frozen=True)
class Albers:
    """EPSG 9822: a cone with two true parallels."""

    ellipsoid: Ellipsoid
    first: float
    second: float
    lat_origin: float
    lon_origin: float
    false_easting: float
    false_northing: float

    @cached_property
    def _cone(self) -> tuple[float, float, float]:
        """Cone constant, C, and the radius of the false origin over the semi-major axis."""
        sines = np.sin([self.first, self.second, self.lat_origin])
        q = authalic_q(self.ellipsoid, sines)
        m = parallel_radius(self.ellipsoid, self.first), parallel_radius(self.ellipsoid, self.second)
        same = abs(self.first - self.second) < 1e-10
        n = float(sines[0]) if same else (m[0] ** 2 - m[1] ** 2) / float(q[1] - q[0])
        c = m[0] ** 2 + n * float(q[0])
        return n, c, math.sqrt(max(c - n * float(q[2]), 0.0)) / n

    def forward(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        n, c, origin = self._cone
        a = self.ellipsoid.semi_major
        with np.errstate(invalid="ignore"):
            on_globe = np.where(np.abs(lat) <= math.pi / 2 + 1e-12, lat, np.nan)
            radius = a * np.sqrt(c - n * authalic_q(self.ellipsoid, np.sin(on_globe))) / n
        angle = n * wrapped(lon - self.lon_origin)
        return (
            self.false_easting + radius * np.sin(angle),
            self.false_northing + a * origin - radius * np.cos(angle),
        )

    def inverse(self, x: Array, y: Array) -> tuple[Array, Array]:
        n, c, origin = self._cone
        a, sign = self.ellipsoid.semi_major, math.copysign(1.0, n)
        east, down = sign * (x - self.false_easting), sign * (a * origin - (y - self.false_northing))
        with np.errstate(invalid="ignore"):
            q = (c - (np.hypot(east, down) * n / a) ** 2) / n
            sine = q / pole_q(self.ellipsoid)
            beta = np.arcsin(np.where(np.abs(sine) < 1 + 1e-12, np.clip(sine, -1, 1), np.nan))
            angle = np.arctan2(east, down) / n
            lon = np.where(np.abs(angle) <= math.pi + 1e-9, self.lon_origin + angle, np.nan)
        return lon, np.where(np.isnan(lon), np.nan, from_authalic(self.ellipsoid, beta))


def albers(ellipsoid: Ellipsoid, p: Parameters) -> Albers:
    """From parameters 8821 to 8824, 8826 and 8827."""
    return Albers(ellipsoid, p[8823], p[8824], p[8821], p[8822], p[8826], p[8827])


@dataclass(frozen=True)
class LambertAzimuthal:
    """EPSG 9820; `spherical` (1027) takes geodetic latitudes to the sphere of equal surface as they are."""

    ellipsoid: Ellipsoid
    lat_origin: float
    lon_origin: float
    false_easting: float
    false_northing: float
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
        radius = self.ellipsoid.semi_major * parallel_radius(self.ellipsoid, self.lat_origin)
        return sine, cosine, radius / (authalic_radius(self.ellipsoid) * cosine)

    def _sine(self, lat: Array) -> Array:
        return np.sin(lat) if self.spherical else sine_of_authalic(self.ellipsoid, lat)

    def forward(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        sine0, cosine0, stretch = self._origin
        with np.errstate(invalid="ignore", divide="ignore"):
            sine = self._sine(np.where(np.abs(lat) <= math.pi / 2 + 1e-12, lat, np.nan))
            cosine, away = np.sqrt(1 - sine * sine), lon - self.lon_origin
            nearness = 1 + sine0 * sine + cosine0 * cosine * np.cos(away)
            size = authalic_radius(self.ellipsoid) * np.sqrt(2 / np.where(nearness > 1e-12, nearness, np.nan))
        x = size * stretch * cosine * np.sin(away)
        y = size / stretch * (cosine0 * sine - sine0 * cosine * np.cos(away))
        return self.false_easting + x, self.false_northing + y

    def inverse(self, x: Array, y: Array) -> tuple[Array, Array]:
        sine0, cosine0, stretch = self._origin
        east, north = (x - self.false_easting) / stretch, (y - self.false_northing) * stretch
        reach = np.hypot(east, north)
        with np.errstate(invalid="ignore", divide="ignore"):
            half = np.arcsin(reach / (2 * authalic_radius(self.ellipsoid)))
            sine_c, cosine_c = np.sin(2 * half), np.cos(2 * half)
            share = np.where(reach > 0, north * sine_c / np.where(reach > 0, reach, 1), 0.0)
            beta = np.arcsin(np.clip(cosine_c * sine0 + share * cosine0, -1, 1))
            away = np.arctan2(east * sine_c, reach * cosine0 * cosine_c - north * sine0 * sine_c)
        lat = beta if self.spherical else from_authalic(self.ellipsoid, beta)
        return self.lon_origin + np.where(reach > 0, away, 0.0), lat


def lambert_azimuthal(ellipsoid: Ellipsoid, p: Parameters) -> LambertAzimuthal:
    return LambertAzimuthal(ellipsoid, p[8801], p[8802], p[8806], p[8807])


def spherical_lambert_azimuthal(ellipsoid: Ellipsoid, p: Parameters) -> LambertAzimuthal:
    return LambertAzimuthal(ellipsoid, p[8801], p[8802], p[8806], p[8807], spherical=True)


@dataclass(frozen=True)
class EqualAreaCylinder:
    """EPSG 9835, and 9834 when `spherical`."""

    ellipsoid: Ellipsoid
    lat_true: float
    lon_origin: float
    false_easting: float
    false_northing: float
    spherical: bool = False

    @cached_property
    def _sizes(self) -> tuple[float, float]:
        """Metres per radian of longitude, and per unit of the sine of authalic latitude."""
        a = self.ellipsoid.semi_major
        if self.spherical:
            radius = authalic_radius(self.ellipsoid)
            return radius * math.cos(self.lat_true), radius / math.cos(self.lat_true)
        k = parallel_radius(self.ellipsoid, self.lat_true)
        return a * k, a * pole_q(self.ellipsoid) / (2 * k)

    def forward(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        across, up = self._sizes
        lat = np.where(np.abs(lat) <= math.pi / 2 + 1e-12, lat, np.nan)
        sine = np.sin(lat) if self.spherical else sine_of_authalic(self.ellipsoid, lat)
        return self.false_easting + across * wrapped(lon - self.lon_origin), self.false_northing + up * sine

    def inverse(self, x: Array, y: Array) -> tuple[Array, Array]:
        across, up = self._sizes
        sine = (y - self.false_northing) / up
        with np.errstate(invalid="ignore"):
            beta = np.arcsin(np.where(np.abs(sine) < 1 + 1e-12, np.clip(sine, -1, 1), np.nan))
        lat = beta if self.spherical else from_authalic(self.ellipsoid, beta)
        lon = (x - self.false_easting) / across
        outside = np.isnan(lat) | (np.abs(lon) > math.pi + 1e-9)
        return np.where(outside, np.nan, self.lon_origin + lon), np.where(outside, np.nan, lat)


def cylinder(ellipsoid: Ellipsoid, p: Parameters) -> EqualAreaCylinder:
    return EqualAreaCylinder(ellipsoid, p[8823], p[8802], p[8806], p[8807])


def spherical_cylinder(ellipsoid: Ellipsoid, p: Parameters) -> EqualAreaCylinder:
    return EqualAreaCylinder(ellipsoid, p[8823], p[8802], p[8806], p[8807], spherical=True)


_A1, _A2, _A3, _A4 = 1.340264, -0.081106, 0.000893, 0.003796


@dataclass(frozen=True)
class EqualEarth:
    """EPSG 1078. Source: B. Savric, T. Patterson, B. Jenny, International Journal of GIS 33 (2019)."""

    ellipsoid: Ellipsoid
    lon_origin: float
    false_easting: float
    false_northing: float

    def forward(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        lat = np.where(np.abs(lat) <= math.pi / 2 + 1e-12, lat, np.nan)
        theta = np.arcsin(math.sqrt(3) / 2 * sine_of_authalic(self.ellipsoid, lat))
        radius = authalic_radius(self.ellipsoid)
        x = radius * 2 * wrapped(lon - self.lon_origin) * np.cos(theta) / (math.sqrt(3) * _slope(theta))
        return self.false_easting + x, self.false_northing + radius * _rise(theta)

    def inverse(self, x: Array, y: Array) -> tuple[Array, Array]:
        radius = authalic_radius(self.ellipsoid)
        up = (y - self.false_northing) / radius
        theta = np.asarray(up, float)
        for _ in range(8):
            theta = theta - (_rise(theta) - up) / _slope(theta)
        with np.errstate(invalid="ignore"):
            beta = np.arcsin(2 * np.sin(theta) / math.sqrt(3))
            beta = np.where(np.abs(theta) <= math.pi / 3 + 1e-12, beta, np.nan)
            lon = math.sqrt(3) * (x - self.false_easting) * _slope(theta) / (2 * radius * np.cos(theta))
        outside = np.isnan(beta) | (np.abs(lon) > math.pi + 1e-9)
        lat = from_authalic(self.ellipsoid, beta)
        return np.where(outside, np.nan, self.lon_origin + lon), np.where(outside, np.nan, lat)


def _rise(theta: Array) -> Array:
    square = theta * theta
    return theta * (_A1 + _A2 * square + square**3 * (_A3 + _A4 * square))


def _slope(theta: Array) -> Array:
    square = theta * theta
    return _A1 + 3 * _A2 * square + square**3 * (7 * _A3 + 9 * _A4 * square)


def equal_earth(ellipsoid: Ellipsoid, p: Parameters) -> EqualEarth:
    return EqualEarth(ellipsoid, p[8802], p[8806], p[8807])
