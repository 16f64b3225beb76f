"""Projections built on arcs of meridians and parallels: Cassini-Soldner, polyconic, Bonne, Guam,
near-conformal cone, Colombia urban, sinusoidal.

Source: IOGP Guidance Note 7-2 (EPSG 9806, 9833, 9818, 9827, 9828, 9831, 9817, 1052); J. P. Snyder, "Map
projections: a working manual" (1987), sections 13, 18, 19 and 30.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from zembrel.geodesy.ellipsoid import Array, Ellipsoid
from zembrel.geodesy.latitudes import from_meridian_arc, meridian_arc
from zembrel.geodesy.projections.placed import Placed, Plain
from zembrel.geodesy.projections.solve import inverted

Parameters = Mapping[int, float]


def _arc(ellipsoid: Ellipsoid, lat: float) -> float:
    return float(meridian_arc(ellipsoid, np.array([lat]))[0])


@dataclass(frozen=True)
class _Arcs:
    """What these projections have in common: northings from an origin, and a first guess."""

    ellipsoid: Ellipsoid
    lat_origin: float

    def _rise(self, lat: Array) -> Array:
        """Arc of the meridian from the origin, metres."""
        return meridian_arc(self.ellipsoid, lat) - _arc(self.ellipsoid, self.lat_origin)

    def _lat(self, rise: Array) -> Array:
        """Latitude at the end of an arc from the origin."""
        return from_meridian_arc(self.ellipsoid, _arc(self.ellipsoid, self.lat_origin) + rise)

    def _guess(self, east: Array, north: Array) -> tuple[Array, Array]:
        """Longitude and latitude of a sinusoidal projection."""
        lat = np.clip(self._lat(north), -1.5, 1.5)
        return np.clip(east / self.ellipsoid.parallel_radius(lat), -math.pi, math.pi), lat


@dataclass(frozen=True)
class Cassini(_Arcs):
    """EPSG 9806; 9833 when `hyperbolic`."""

    hyperbolic: bool = False

    def forward(self, away: Array, lat: Array) -> tuple[Array, Array]:
        e2, normal = self.ellipsoid.eccentricity**2, self.ellipsoid.normal_radius(lat)
        a, t, c = away * np.cos(lat), np.tan(lat) ** 2, e2 * np.cos(lat) ** 2 / (1 - e2)
        east = normal * (a - t * a**3 / 6 - (8 - t + 8 * c) * t * a**5 / 120)
        north = self._rise(lat) + normal * np.tan(lat) * (a * a / 2 + (5 - t + 6 * c) * a**4 / 24)
        if self.hyperbolic:
            north = north - north**3 / (6 * normal * self.ellipsoid.meridian_radius(lat))
        inside = (np.abs(a) < 0.6) & (np.abs(lat) < math.radians(89))
        return np.where(inside, east, np.nan), north

    def inverse(self, east: Array, north: Array) -> tuple[Array, Array]:
        return inverted(self.forward, east, north, *self._guess(east, north))


@dataclass(frozen=True)
class Polyconic(_Arcs):
    """EPSG 9818, within a quarter turn of the central meridian."""

    def forward(self, away: Array, lat: Array) -> tuple[Array, Array]:
        flat = np.abs(lat) < 1e-9
        safe = np.where(flat, 1.0, lat)
        angle, cone = away * np.sin(safe), self.ellipsoid.normal_radius(safe) / np.tan(safe)
        east = np.where(flat, self.ellipsoid.semi_major * away, cone * np.sin(angle))
        north = self._rise(lat) + np.where(flat, 0.0, cone * 2 * np.sin(angle / 2) ** 2)
        return np.where(np.abs(away) <= math.pi / 2, east, np.nan), north

    def inverse(self, east: Array, north: Array) -> tuple[Array, Array]:
        return inverted(self.forward, east, north, *self._guess(east, north))


@dataclass(frozen=True)
class Bonne(_Arcs):
    """EPSG 9827 and 9828."""

    @property
    def _apex(self) -> float:
        return float(self.ellipsoid.normal_radius(self.lat_origin)) / math.tan(self.lat_origin)

    def forward(self, away: Array, lat: Array) -> tuple[Array, Array]:
        radius = self._apex - self._rise(lat)
        angle = np.where(radius != 0, self.ellipsoid.parallel_radius(lat) * away / radius, 0.0)
        return radius * np.sin(angle), self._apex - radius * np.cos(angle)

    def inverse(self, east: Array, north: Array) -> tuple[Array, Array]:
        sign = math.copysign(1.0, self.lat_origin)
        east, down = sign * east, sign * (self._apex - north)
        radius = sign * np.hypot(east, down)
        lat = self._lat(self._apex - radius)
        wide = self.ellipsoid.parallel_radius(lat)
        return np.where(np.abs(wide) > 1e-6, radius * np.arctan2(east, down) / wide, 0.0), lat


@dataclass(frozen=True)
class Guam(_Arcs):
    """EPSG 9831."""

    def forward(self, away: Array, lat: Array) -> tuple[Array, Array]:
        east = self.ellipsoid.parallel_radius(lat) * away
        north = self._rise(lat) + east * east * np.tan(lat) / (2 * self.ellipsoid.normal_radius(lat))
        return np.where((np.abs(east) < 2e6) & (np.abs(lat) < 1.5), east, np.nan), north

    def inverse(self, east: Array, north: Array) -> tuple[Array, Array]:
        return inverted(self.forward, east, north, *self._guess(east, north))


@dataclass(frozen=True)
class NearConformalCone(_Arcs):
    """EPSG 9817: the cone's radii by a cubic of the meridian arc."""

    scale: float

    def _constants(self) -> tuple[float, float]:
        """Radius of the origin, and the cubic factor."""
        normal = float(self.ellipsoid.normal_radius(self.lat_origin))
        cubic = 1 / (6 * float(self.ellipsoid.meridian_radius(self.lat_origin)) * normal)
        return self.scale * normal / math.tan(self.lat_origin), cubic

    def forward(self, away: Array, lat: Array) -> tuple[Array, Array]:
        (radius0, cubic), arc = self._constants(), self._rise(lat)
        along = self.scale * (arc + cubic * arc**3)
        angle = away * math.sin(self.lat_origin)
        east = (radius0 - along) * np.sin(angle)
        return np.where(np.abs(arc) < 5e6, east, np.nan), along + east * np.tan(angle / 2)

    def inverse(self, east: Array, north: Array) -> tuple[Array, Array]:
        radius0, cubic = self._constants()
        sign = math.copysign(1.0, self.lat_origin)
        east, down = sign * east, sign * (radius0 - north)
        along = (radius0 - sign * np.hypot(east, down)) / self.scale
        arc = np.asarray(along, float)
        for _ in range(10):
            arc = arc - (arc + cubic * arc**3 - along) / (1 + 3 * cubic * arc * arc)
        away = np.arctan2(east, down) / math.sin(self.lat_origin)
        return np.where(np.abs(arc) < 5e6, away, np.nan), self._lat(arc)


@dataclass(frozen=True)
class ColombiaUrban(_Arcs):
    """EPSG 1052: a plane at a height above the ellipsoid."""

    height: float

    def forward(self, away: Array, lat: Array) -> tuple[Array, Array]:
        along, across = (
            float(radius(self.lat_origin))
            for radius in (self.ellipsoid.meridian_radius, self.ellipsoid.normal_radius)
        )
        wide, up = self.ellipsoid.parallel_radius(lat) * away, lat - self.lat_origin
        middle = self.ellipsoid.meridian_radius((lat + self.lat_origin) / 2)
        bend = math.tan(self.lat_origin) / (2 * along * across)
        inside = (np.abs(wide) < 5e5) & (np.abs(up) < 0.1)
        north = (1 + self.height / middle) * along * (up + bend * wide * wide)
        return np.where(inside, (1 + self.height / across) * wide, np.nan), north

    def inverse(self, east: Array, north: Array) -> tuple[Array, Array]:
        return inverted(self.forward, east, north, *self._guess(east, north))


@dataclass(frozen=True)
class Sinusoidal(_Arcs):
    """Equal-area; parallels and the central meridian are true."""

    def forward(self, away: Array, lat: Array) -> tuple[Array, Array]:
        return self.ellipsoid.parallel_radius(lat) * away, self._rise(lat)

    def inverse(self, east: Array, north: Array) -> tuple[Array, Array]:
        lat = self._lat(north)
        return east / self.ellipsoid.parallel_radius(lat), lat


def _placed(plain: Plain, p: Parameters, sign: float = 1.0) -> Placed:
    return Placed(plain, p[8802], sign * p[8806], sign * p[8807])


def cassini(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    return _placed(Cassini(ellipsoid, p[8801]), p)


def hyperbolic_cassini(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    return _placed(Cassini(ellipsoid, p[8801], hyperbolic=True), p)


def polyconic(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    return _placed(Polyconic(ellipsoid, p[8801]), p)


def bonne(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    return _placed(Bonne(ellipsoid, p[8801]), p)


def south_orientated_bonne(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    """EPSG 9828: westings and southings are registered; x = -westing and y = -southing come out here."""
    return _placed(Bonne(ellipsoid, p[8801]), p, -1.0)


def guam(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    return _placed(Guam(ellipsoid, p[8801]), p)


def near_conformal(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    return _placed(NearConformalCone(ellipsoid, p[8801], p[8805]), p)


def colombia_urban(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    return _placed(ColombiaUrban(ellipsoid, p[8801], p[1039]), p)


def sinusoidal(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    return _placed(Sinusoidal(ellipsoid, 0.0), p)
