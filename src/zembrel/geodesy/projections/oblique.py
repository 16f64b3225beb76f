"""Oblique conformal projections: stereographic, Hotine's and Laborde's Mercator, Krovak's cone.

All go by way of a sphere on which the ellipsoid is mapped conformally: isometric latitude times a
constant, plus another. Source: IOGP Guidance Note 7-2 (EPSG 9809, 9812, 9815, 9813, 9819, 1041, 1042,
1043); for the reverse of Hotine's: J. P. Snyder, "Map projections: a working manual" (1987), section 9.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from zembrel.geodesy.angles import wrapped
from zembrel.geodesy.ellipsoid import Array, Ellipsoid
from zembrel.geodesy.latitudes import from_isometric, isometric
from zembrel.geodesy.projections.placed import Placed
from zembrel.geodesy.projections.solve import inverted

Parameters = Mapping[int, float]


def _psi(ellipsoid: Ellipsoid, lat: float) -> float:
    return float(isometric(ellipsoid, np.array([lat]))[0])


def _stretch(ellipsoid: Ellipsoid, lat: float) -> float:
    """The constant of the sphere that osculates at `lat`."""
    e2 = ellipsoid.eccentricity**2
    return math.sqrt(1 + e2 * math.cos(lat) ** 4 / (1 - e2))


def _mean_radius(ellipsoid: Ellipsoid, lat: float) -> float:
    """Geometric mean of the radii of curvature at `lat`, metres."""
    return math.sqrt(ellipsoid.normal_radius(lat) * ellipsoid.meridian_radius(lat))


@dataclass(frozen=True)
class ObliqueStereographic:
    """EPSG 9809: the double stereographic."""

    ellipsoid: Ellipsoid
    lat_origin: float
    scale: float

    @cached_property
    def _sphere(self) -> tuple[float, float, float, float]:
        """Constant n, shift of the isometric latitude, latitude of the origin, twice the scaled radius."""
        n, sine = _stretch(self.ellipsoid, self.lat_origin), math.sin(self.lat_origin)
        psi = n * _psi(self.ellipsoid, self.lat_origin)
        first = math.tanh(psi)  # sine of the latitude before the shift
        c = (n + sine) * (1 - first) / ((n - sine) * (1 + first))
        shift = math.log(c) / 2
        size = 2 * _mean_radius(self.ellipsoid, self.lat_origin) * self.scale
        return n, shift, math.asin(math.tanh(psi + shift)), size

    def forward(self, away: Array, lat: Array) -> tuple[Array, Array]:
        n, shift, chi0, size = self._sphere
        sine = np.tanh(n * isometric(self.ellipsoid, lat) + shift)
        cosine, turn = np.sqrt(1 - sine * sine), n * away
        nearness = 1 + sine * math.sin(chi0) + cosine * math.cos(chi0) * np.cos(turn)
        factor = size / np.where(nearness > 1e-9, nearness, np.nan)
        north = factor * (sine * math.cos(chi0) - cosine * math.sin(chi0) * np.cos(turn))
        return factor * cosine * np.sin(turn), north

    def inverse(self, east: Array, north: Array) -> tuple[Array, Array]:
        n, shift, chi0, size = self._sphere
        reach = np.hypot(east, north)
        angle = 2 * np.arctan2(reach, size)
        share = np.where(reach > 0, north / reach, 0.0)
        sine = np.cos(angle) * math.sin(chi0) + share * np.sin(angle) * math.cos(chi0)
        turn = np.arctan2(
            east * np.sin(angle),
            reach * math.cos(chi0) * np.cos(angle) - north * math.sin(chi0) * np.sin(angle),
        )
        psi = (np.arctanh(np.clip(sine, -1, 1)) - shift) / n
        return np.where(reach > 0, turn, 0.0) / n, from_isometric(self.ellipsoid, psi)


def stereographic(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    return Placed(ObliqueStereographic(ellipsoid, p[8801], p[8805]), p[8802], p[8806], p[8807])


@dataclass(frozen=True)
class HotineObliqueMercator:
    """EPSG 9812; 9815 when `centred`: counted from the projection centre, not the natural origin."""

    ellipsoid: Ellipsoid
    lat_centre: float
    azimuth: float
    rectified: float
    scale: float
    centred: bool

    @cached_property
    def _constants(self) -> tuple[float, float, float, float, float, float]:
        """B, A, H, gamma0, the longitude of the natural origin from the centre, and u of the centre."""
        e2 = self.ellipsoid.eccentricity**2
        sine, cosine = math.sin(self.lat_centre), math.cos(self.lat_centre)
        b = _stretch(self.ellipsoid, self.lat_centre)
        a = b * self.scale * _mean_radius(self.ellipsoid, self.lat_centre)
        d = max(b * math.sqrt(1 - e2) / (cosine * math.sqrt(1 - e2 * sine * sine)), 1.0)
        sign = math.copysign(1.0, self.lat_centre)
        root = math.sqrt(d * d - 1)
        f = d + root * sign
        h = f * math.exp(-b * _psi(self.ellipsoid, self.lat_centre))
        gamma = math.asin(math.sin(self.azimuth) / d)
        reach = max(-1.0, min(1.0, (f - 1 / f) / 2 * math.tan(gamma)))
        origin = -math.asin(reach) / b
        if abs(abs(self.azimuth) - math.pi / 2) < 1e-9:
            centre = -a * origin
        else:
            centre = a / b * math.atan2(root, math.cos(self.azimuth)) * sign
        return b, a, h, gamma, origin, centre

    def forward(self, away: Array, lat: Array) -> tuple[Array, Array]:
        b, a, h, gamma, origin, centre = self._constants
        q = h * np.exp(b * isometric(self.ellipsoid, lat))
        s, t = (q - 1 / q) / 2, (q + 1 / q) / 2
        turn = b * wrapped(away - origin)
        share = (s * math.sin(gamma) - np.sin(turn) * math.cos(gamma)) / t
        v = a * np.log((1 - share) / (1 + share)) / (2 * b)
        u = a / b * np.arctan2(s * math.cos(gamma) + np.sin(turn) * math.sin(gamma), np.cos(turn))
        u = u - centre if self.centred else u
        sine, cosine = math.sin(self.rectified), math.cos(self.rectified)
        return v * cosine + u * sine, u * cosine - v * sine

    def inverse(self, east: Array, north: Array) -> tuple[Array, Array]:
        b, a, h, gamma, origin, centre = self._constants
        sine, cosine = math.sin(self.rectified), math.cos(self.rectified)
        v, u = east * cosine - north * sine, north * cosine + east * sine
        u = u + centre if self.centred else u
        q = np.exp(-b * v / a)
        s, t, w = (q - 1 / q) / 2, (q + 1 / q) / 2, np.sin(b * u / a)
        share = (w * math.cos(gamma) + s * math.sin(gamma)) / t
        psi = (np.arctanh(np.clip(share, -1, 1)) - math.log(h)) / b
        turn = np.arctan2(w * math.sin(gamma) - s * math.cos(gamma), np.cos(b * u / a))
        away = wrapped(origin + turn / b)
        return np.where(np.abs(u) <= a / b * math.pi, away, np.nan), from_isometric(self.ellipsoid, psi)


def hotine(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    """From parameters 8811 to 8815, and 8816, 8817 (variant B) or 8806, 8807 (variant A)."""
    centred = 8816 in p
    easting, northing = (p[8816], p[8817]) if centred else (p[8806], p[8807])
    plain = HotineObliqueMercator(ellipsoid, p[8811], p[8813], p[8814], p[8815], centred)
    return Placed(plain, p[8812], easting, northing)


@dataclass(frozen=True)
class Laborde:
    """EPSG 9813, as made for Madagascar."""

    ellipsoid: Ellipsoid
    lat_centre: float
    azimuth: float
    scale: float

    def forward(self, away: Array, lat: Array) -> tuple[Array, Array]:
        b = _stretch(self.ellipsoid, self.lat_centre)
        chi0 = math.asin(math.sin(self.lat_centre) / b)
        shift = math.atanh(math.sin(chi0)) - b * _psi(self.ellipsoid, self.lat_centre)
        sine = np.tanh(shift + b * isometric(self.ellipsoid, lat))
        cosine, turn = np.sqrt(1 - sine * sine), b * away
        u = cosine * np.cos(turn) * math.cos(chi0) + sine * math.sin(chi0)
        v = cosine * np.cos(turn) * math.sin(chi0) - sine * math.cos(chi0)
        h = -np.arctan2(v, u) + 1j * np.arctanh(cosine * np.sin(turn))
        g = (1 - np.exp(-2j * self.azimuth)) / 12  # (1 - cos 2 alpha + i sin 2 alpha) / 12
        plane = self.scale * _mean_radius(self.ellipsoid, self.lat_centre) * (h + g * h**3)
        return np.where(np.abs(h) < 0.5, plane.imag, np.nan), plane.real

    def inverse(self, east: Array, north: Array) -> tuple[Array, Array]:
        radius = _mean_radius(self.ellipsoid, self.lat_centre)
        away = east / (radius * math.cos(self.lat_centre))
        return inverted(self.forward, east, north, away, self.lat_centre + north / radius)


def laborde(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    return Placed(Laborde(ellipsoid, p[8811], p[8813], p[8815]), p[8812], p[8806], p[8807])


@dataclass(frozen=True)
class Krovak:
    """EPSG 9819, 1041, 1042 and 1043: east = -westing and north = -southing, whatever the variant.

    terms: C1 to C10 of the modified variants about the evaluation point (southing, westing), or empty.
    """

    ellipsoid: Ellipsoid
    lat_centre: float
    axis: float
    lat_true: float
    scale: float
    terms: tuple[float, ...] = ()
    evaluation: tuple[float, float] = (0.0, 0.0)

    @cached_property
    def _constants(self) -> tuple[float, float, float, float]:
        """B, shift of the isometric latitude, cone constant, size of the cone."""
        b = _stretch(self.ellipsoid, self.lat_centre)
        gamma = math.asin(math.sin(self.lat_centre) / b)
        shift = math.atanh(math.sin(gamma)) - b * _psi(self.ellipsoid, self.lat_centre)
        n = math.sin(self.lat_true)
        radius = self.scale * _mean_radius(self.ellipsoid, self.lat_centre) / math.tan(self.lat_true)
        return b, shift, n, radius * math.exp(n * math.atanh(n))

    def forward(self, away: Array, lat: Array) -> tuple[Array, Array]:
        b, shift, n, size = self._constants
        sine = np.tanh(shift + b * isometric(self.ellipsoid, lat))
        cosine, turn = np.sqrt(1 - sine * sine), -b * away
        height = math.cos(self.axis) * sine + math.sin(self.axis) * cosine * np.cos(turn)
        side = np.arcsin(np.clip(cosine * np.sin(turn) / np.sqrt(1 - height * height), -1, 1))
        radius = size * np.exp(-n * np.arctanh(np.clip(height, -1, 1)))
        south, west = radius * np.cos(n * side), radius * np.sin(n * side)
        by_south, by_west = self._correction(south, west) if self.terms else (0.0, 0.0)
        return by_west - west, by_south - south

    def _correction(self, south: Array, west: Array) -> tuple[Array, Array]:
        c1, c2, c3, c4, c5, c6, c7, c8, c9, c10 = self.terms
        x, y = south - self.evaluation[0], west - self.evaluation[1]
        xx, yy, xy = x * x, y * y, x * y
        by_south = c1 + c3 * x - c4 * y - 2 * c6 * xy + c5 * (xx - yy) + c7 * x * (xx - 3 * yy)
        by_south += -c8 * y * (3 * xx - yy) + 4 * c9 * xy * (xx - yy) + c10 * (xx**2 + yy**2 - 6 * xx * yy)
        by_west = c2 + c3 * y + c4 * x + 2 * c5 * xy + c6 * (xx - yy) + c8 * x * (xx - 3 * yy)
        by_west += c7 * y * (3 * xx - yy) - 4 * c10 * xy * (xx - yy) + c9 * (xx**2 + yy**2 - 6 * xx * yy)
        return by_south, by_west

    def inverse(self, east: Array, north: Array) -> tuple[Array, Array]:
        b, shift, n, size = self._constants
        south, west = -north, -east
        for _ in range(6 if self.terms else 0):
            by_south, by_west = self._correction(south, west)
            south, west = by_south - north, by_west - east
        height = np.tanh(-np.log(np.hypot(south, west) / size) / n)
        turn, near = np.arctan2(west, south) / n, np.sqrt(1 - height * height)
        sine = math.cos(self.axis) * height - math.sin(self.axis) * near * np.cos(turn)
        side = np.clip(near * np.sin(turn) / np.sqrt(1 - sine * sine), -1, 1)
        psi = (np.arctanh(np.clip(sine, -1, 1)) - shift) / b
        return -np.arcsin(side) / b, from_isometric(self.ellipsoid, psi)


def krovak(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    """From parameters 8811, 8833, 1036, 8818, 8819, 8806, 8807 and, modified, 8617, 8618, 1026 to 1035."""
    terms = tuple(p[code] for code in range(1026, 1036)) if 1026 in p else ()
    evaluation = (p.get(8617, 0.0), p.get(8618, 0.0))
    plain = Krovak(ellipsoid, p[8811], p[1036], p[8818], p[8819], terms, evaluation)
    return Placed(plain, p[8833], -p[8806], -p[8807])
