"""Projections built on arcs of meridians and parallels: Cassini-Soldner, polyconic, Bonne, Guam,
near-conformal cone, Colombia urban, sinusoidal.

Source: IOGP Guidance Note 7-2 (EPSG 9806, 9833, 9818, 9827, 9828, 9831, 9817, 1052); J. P. Snyder, "Map
projections: a working manual" (1987), sections 13, 18, 19 and 30.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from zembrel.geodesy.ellipsoid import Array, Ellipsoid
from zembrel.geodesy.latitudes import from_meridian_arc, meridian_arc
from zembrel.geodesy.projections.solve import inverted, wrapped

Parameters = Mapping[int, float]


def _normal_radius(ellipsoid: Ellipsoid, lat: Array) -> Array:
    """Radius of curvature across the meridian, metres."""
    return ellipsoid.semi_major / np.sqrt(1 - (ellipsoid.eccentricity * np.sin(lat)) ** 2)


def _meridian_radius(ellipsoid: Ellipsoid, lat: Array) -> Array:
    """Radius of curvature along the meridian, metres."""
    e2 = ellipsoid.eccentricity**2
    return ellipsoid.semi_major * (1 - e2) / (1 - e2 * np.sin(lat) ** 2) ** 1.5


def _arc(ellipsoid: Ellipsoid, lat: float) -> float:
    return float(meridian_arc(ellipsoid, np.array([lat]))[0])


@dataclass(frozen=True)
class _Arcs:
    """What these projections have in common: an origin, false coordinates and a first guess."""

    ellipsoid: Ellipsoid
    lat_origin: float
    lon_origin: float
    false_easting: float
    false_northing: float

    def _guess(self, x: Array, y: Array) -> tuple[Array, Array]:
        """Longitude and latitude of a sinusoidal projection."""
        arc = _arc(self.ellipsoid, self.lat_origin) + y - self.false_northing
        lat = np.clip(from_meridian_arc(self.ellipsoid, arc), -1.5, 1.5)
        lon = (x - self.false_easting) / (_normal_radius(self.ellipsoid, lat) * np.cos(lat))
        return self.lon_origin + np.clip(lon, -math.pi, math.pi), lat


@dataclass(frozen=True)
class Cassini(_Arcs):
    """EPSG 9806; 9833 when `hyperbolic`."""

    hyperbolic: bool = False

    def forward(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        e2 = self.ellipsoid.eccentricity**2
        with np.errstate(invalid="ignore", over="ignore"):
            a = wrapped(lon - self.lon_origin) * np.cos(lat)
            t, c = np.tan(lat) ** 2, e2 * np.cos(lat) ** 2 / (1 - e2)
            normal = _normal_radius(self.ellipsoid, lat)
            x = normal * (a - t * a**3 / 6 - (8 - t + 8 * c) * t * a**5 / 120)
            y = meridian_arc(self.ellipsoid, lat) - _arc(self.ellipsoid, self.lat_origin)
            y = y + normal * np.tan(lat) * (a * a / 2 + (5 - t + 6 * c) * a**4 / 24)
            if self.hyperbolic:
                y = y - y**3 / (6 * normal * _meridian_radius(self.ellipsoid, lat))
            inside = (np.abs(a) < 0.6) & (np.abs(lat) < math.radians(89))
        return (
            np.where(inside, self.false_easting + x, np.nan),
            np.where(inside, self.false_northing + y, np.nan),
        )

    def inverse(self, x: Array, y: Array) -> tuple[Array, Array]:
        return inverted(self.forward, x, y, *self._guess(x, y))


@dataclass(frozen=True)
class Polyconic(_Arcs):
    """EPSG 9818, within a quarter turn of the central meridian."""

    def forward(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        with np.errstate(invalid="ignore", divide="ignore"):
            away = wrapped(lon - self.lon_origin)
            flat = np.abs(lat) < 1e-9
            safe = np.where(flat, 1.0, lat)
            angle, cone = away * np.sin(safe), _normal_radius(self.ellipsoid, safe) / np.tan(safe)
            x = np.where(flat, self.ellipsoid.semi_major * away, cone * np.sin(angle))
            y = np.where(flat, 0.0, cone * 2 * np.sin(angle / 2) ** 2)
            y = y + meridian_arc(self.ellipsoid, lat) - _arc(self.ellipsoid, self.lat_origin)
            inside = (np.abs(away) <= math.pi / 2) & (np.abs(lat) <= math.pi / 2)
        return (
            np.where(inside, self.false_easting + x, np.nan),
            np.where(inside, self.false_northing + y, np.nan),
        )

    def inverse(self, x: Array, y: Array) -> tuple[Array, Array]:
        return inverted(self.forward, x, y, *self._guess(x, y))


@dataclass(frozen=True)
class Bonne(_Arcs):
    """EPSG 9827; 9828 with its false coordinates negated: x = -westing and y = -southing."""

    def _apex(self) -> float:
        normal = float(_normal_radius(self.ellipsoid, np.array([self.lat_origin]))[0])
        return normal / math.tan(self.lat_origin)

    def forward(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        apex = self._apex()
        with np.errstate(invalid="ignore", divide="ignore"):
            lat = np.where(np.abs(lat) <= math.pi / 2 + 1e-12, lat, np.nan)
            radius = apex + _arc(self.ellipsoid, self.lat_origin) - meridian_arc(self.ellipsoid, lat)
            wide = _normal_radius(self.ellipsoid, lat) * np.cos(lat) * wrapped(lon - self.lon_origin)
            angle = np.where(radius != 0, wide / radius, 0.0)
        return (
            self.false_easting + radius * np.sin(angle),
            self.false_northing + apex - radius * np.cos(angle),
        )

    def inverse(self, x: Array, y: Array) -> tuple[Array, Array]:
        apex, sign = self._apex(), math.copysign(1.0, self.lat_origin)
        east, down = sign * (x - self.false_easting), sign * (apex - (y - self.false_northing))
        radius = sign * np.hypot(east, down)
        lat = from_meridian_arc(self.ellipsoid, apex + _arc(self.ellipsoid, self.lat_origin) - radius)
        with np.errstate(divide="ignore", invalid="ignore"):
            wide = _normal_radius(self.ellipsoid, lat) * np.cos(lat)
            away = np.where(np.abs(wide) > 1e-6, radius * np.arctan2(east, down) / wide, 0.0)
        outside = (np.abs(lat) > math.pi / 2 + 1e-9) | (np.abs(away) > math.pi + 1e-9)
        return np.where(outside, np.nan, self.lon_origin + away), np.where(outside, np.nan, lat)


@dataclass(frozen=True)
class Guam(_Arcs):
    """EPSG 9831."""

    def forward(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        with np.errstate(invalid="ignore"):
            normal = _normal_radius(self.ellipsoid, lat)
            x = normal * wrapped(lon - self.lon_origin) * np.cos(lat)
            y = meridian_arc(self.ellipsoid, lat) - _arc(self.ellipsoid, self.lat_origin)
            y = y + x * x * np.tan(lat) / (2 * normal)
            inside = (np.abs(x) < 2e6) & (np.abs(lat) < 1.5)
        return (
            np.where(inside, self.false_easting + x, np.nan),
            np.where(inside, self.false_northing + y, np.nan),
        )

    def inverse(self, x: Array, y: Array) -> tuple[Array, Array]:
        return inverted(self.forward, x, y, *self._guess(x, y))


@dataclass(frozen=True)
class NearConformalCone(_Arcs):
    """EPSG 9817: the cone's radii by a cubic of the meridian arc."""

    scale: float = 1.0

    def _constants(self) -> tuple[float, float, float]:
        """Radius of the origin, cubic factor, arc of the origin."""
        at = np.array([self.lat_origin])
        normal = float(_normal_radius(self.ellipsoid, at)[0])
        cubic = 1 / (6 * float(_meridian_radius(self.ellipsoid, at)[0]) * normal)
        return self.scale * normal / math.tan(self.lat_origin), cubic, _arc(self.ellipsoid, self.lat_origin)

    def forward(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        radius0, cubic, arc0 = self._constants()
        with np.errstate(invalid="ignore"):
            arc = meridian_arc(self.ellipsoid, np.where(np.abs(lat) <= math.pi / 2, lat, np.nan)) - arc0
            along = self.scale * (arc + cubic * arc**3)
            angle = wrapped(lon - self.lon_origin) * math.sin(self.lat_origin)
            radius = radius0 - along
            inside = np.abs(arc) < 5e6
        x = self.false_easting + radius * np.sin(angle)
        y = self.false_northing + along + radius * np.sin(angle) * np.tan(angle / 2)
        return np.where(inside, x, np.nan), np.where(inside, y, np.nan)

    def inverse(self, x: Array, y: Array) -> tuple[Array, Array]:
        radius0, cubic, arc0 = self._constants()
        sign = math.copysign(1.0, self.lat_origin)
        east, down = sign * (x - self.false_easting), sign * (radius0 - (y - self.false_northing))
        along = (radius0 - sign * np.hypot(east, down)) / self.scale
        arc = np.asarray(along, float)
        for _ in range(10):
            arc = arc - (arc + cubic * arc**3 - along) / (1 + 3 * cubic * arc * arc)
        lat = from_meridian_arc(self.ellipsoid, arc0 + arc)
        outside = ~(np.abs(arc) < 5e6) | (np.abs(lat) > math.pi / 2)
        lon = self.lon_origin + np.arctan2(east, down) / math.sin(self.lat_origin)
        return np.where(outside, np.nan, lon), np.where(outside, np.nan, lat)


@dataclass(frozen=True)
class ColombiaUrban(_Arcs):
    """EPSG 1052: a plane at a height above the ellipsoid."""

    height: float = 0.0

    def forward(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        at = np.array([self.lat_origin])
        along, across = (float(f(self.ellipsoid, at)[0]) for f in (_meridian_radius, _normal_radius))
        away = wrapped(lon - self.lon_origin)
        wide = _normal_radius(self.ellipsoid, lat) * np.cos(lat) * away
        middle = _meridian_radius(self.ellipsoid, (lat + self.lat_origin) / 2)
        bend = math.tan(self.lat_origin) / (2 * along * across)
        x = self.false_easting + (1 + self.height / across) * wide
        y = (1 + self.height / middle) * along * (lat - self.lat_origin + bend * wide * wide)
        inside = (np.abs(wide) < 5e5) & (np.abs(lat - self.lat_origin) < 0.1)
        return np.where(inside, x, np.nan), np.where(inside, self.false_northing + y, np.nan)

    def inverse(self, x: Array, y: Array) -> tuple[Array, Array]:
        return inverted(self.forward, x, y, *self._guess(x, y))


@dataclass(frozen=True)
class Sinusoidal(_Arcs):
    """Equal-area; parallels and the central meridian are true."""

    def forward(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        lat = np.where(np.abs(lat) <= math.pi / 2 + 1e-12, lat, np.nan)
        wide = _normal_radius(self.ellipsoid, lat) * np.cos(lat)
        y = self.false_northing + meridian_arc(self.ellipsoid, lat)
        return self.false_easting + wide * wrapped(lon - self.lon_origin), y

    def inverse(self, x: Array, y: Array) -> tuple[Array, Array]:
        lat = from_meridian_arc(self.ellipsoid, y - self.false_northing)
        with np.errstate(divide="ignore", invalid="ignore"):
            away = (x - self.false_easting) / (_normal_radius(self.ellipsoid, lat) * np.cos(lat))
        outside = (np.abs(lat) > math.pi / 2 + 1e-12) | ~(np.abs(away) <= math.pi + 1e-9)
        return np.where(outside, np.nan, self.lon_origin + away), np.where(outside, np.nan, lat)


def _origin(p: Parameters) -> tuple[float, float, float, float]:
    return p.get(8801, 0.0), p[8802], p.get(8806, 0.0), p.get(8807, 0.0)


def cassini(ellipsoid: Ellipsoid, p: Parameters) -> Cassini:
    return Cassini(ellipsoid, *_origin(p))


def hyperbolic_cassini(ellipsoid: Ellipsoid, p: Parameters) -> Cassini:
    return Cassini(ellipsoid, *_origin(p), hyperbolic=True)


def polyconic(ellipsoid: Ellipsoid, p: Parameters) -> Polyconic:
    return Polyconic(ellipsoid, *_origin(p))


def bonne(ellipsoid: Ellipsoid, p: Parameters) -> Bonne:
    return Bonne(ellipsoid, *_origin(p))


def south_orientated_bonne(ellipsoid: Ellipsoid, p: Parameters) -> Bonne:
    plain = bonne(ellipsoid, p)
    return replace(plain, false_easting=-plain.false_easting, false_northing=-plain.false_northing)


def guam(ellipsoid: Ellipsoid, p: Parameters) -> Guam:
    return Guam(ellipsoid, *_origin(p))


def near_conformal(ellipsoid: Ellipsoid, p: Parameters) -> NearConformalCone:
    return NearConformalCone(ellipsoid, *_origin(p), scale=p[8805])


def colombia_urban(ellipsoid: Ellipsoid, p: Parameters) -> ColombiaUrban:
    return ColombiaUrban(ellipsoid, *_origin(p), height=p[1039])


def sinusoidal(ellipsoid: Ellipsoid, p: Parameters) -> Sinusoidal:
    return Sinusoidal(ellipsoid, *_origin(p))
