"""Azimuthal projections that are not equal-area, and the grids of single countries.

Source: IOGP Guidance Note 7-2 (EPSG 1125, 9832, 1130, 9811, 9816); for 9832: J. P. Snyder, "Map
projections: a working manual" (1987), section 25; for 9811: Land Information New Zealand, LINZS25002.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from zembrel.geodesy.ellipsoid import Array, Ellipsoid
from zembrel.geodesy.geodesic import between, destination
from zembrel.geodesy.projections.solve import inverted, wrapped

Parameters = Mapping[int, float]


@dataclass(frozen=True)
class AzimuthalEquidistant:
    """EPSG 1125: distance and azimuth of the geodesic from the origin."""

    ellipsoid: Ellipsoid
    lat_origin: float
    lon_origin: float
    false_easting: float
    false_northing: float

    def forward(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        lat = np.where(np.abs(lat) <= math.pi / 2 + 1e-12, lat, np.nan)
        lon0, lat0 = np.full(np.shape(lat), self.lon_origin), np.full(np.shape(lat), self.lat_origin)
        metres, azimuth = between(self.ellipsoid, lon0, lat0, np.asarray(lon, float), lat)
        return self.false_easting + metres * np.sin(azimuth), self.false_northing + metres * np.cos(azimuth)

    def inverse(self, x: Array, y: Array) -> tuple[Array, Array]:
        east, north = x - self.false_easting, y - self.false_northing
        reach = np.hypot(east, north)
        reach = np.where(reach < math.pi * self.ellipsoid.semi_minor, reach, np.nan)
        lon0, lat0 = np.full(reach.shape, self.lon_origin), np.full(reach.shape, self.lat_origin)
        return destination(self.ellipsoid, lon0, lat0, np.arctan2(east, north), reach)


def azimuthal_equidistant(ellipsoid: Ellipsoid, p: Parameters) -> AzimuthalEquidistant:
    return AzimuthalEquidistant(ellipsoid, p[8801], p[8802], p[8806], p[8807])


@dataclass(frozen=True)
class ModifiedAzimuthalEquidistant(AzimuthalEquidistant):
    """EPSG 9832: normal sections in place of geodesics, for islands."""

    def forward(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        e2 = self.ellipsoid.eccentricity**2
        sine0, cosine0 = math.sin(self.lat_origin), math.cos(self.lat_origin)
        normal0 = self.ellipsoid.semi_major / math.sqrt(1 - e2 * sine0 * sine0)
        normal = self.ellipsoid.semi_major / np.sqrt(1 - e2 * np.sin(lat) ** 2)
        psi = np.arctan((1 - e2) * np.tan(lat) + e2 * normal0 * sine0 / (normal * np.cos(lat)))
        away = wrapped(lon - self.lon_origin)
        across, along = np.sin(away) * np.cos(psi), cosine0 * np.sin(psi) - sine0 * np.cos(psi) * np.cos(away)
        azimuth, s = np.arctan2(across, along), np.arcsin(np.clip(np.hypot(across, along), -1, 1))
        g = math.sqrt(e2 / (1 - e2)) * sine0
        h = math.sqrt(e2 / (1 - e2)) * cosine0 * np.cos(azimuth)
        reach = (normal0 * s) * (
            1
            - s**2 * h**2 * (1 - h**2) / 6
            + s**3 / 8 * g * h * (1 - 2 * h**2)
            + s**4 / 120 * (h**2 * (4 - 7 * h**2) - 3 * g**2 * (1 - 7 * h**2))
            - s**5 / 48 * g * h
        )
        inside = (np.abs(away) < 0.5) & (np.abs(lat - self.lat_origin) < 0.5)
        reach = np.where(inside, reach, np.nan)
        return self.false_easting + reach * np.sin(azimuth), self.false_northing + reach * np.cos(azimuth)

    def inverse(self, x: Array, y: Array) -> tuple[Array, Array]:
        return inverted(self.forward, x, y, *super().inverse(x, y))


def modified_azimuthal_equidistant(ellipsoid: Ellipsoid, p: Parameters) -> ModifiedAzimuthalEquidistant:
    return ModifiedAzimuthalEquidistant(ellipsoid, p[8801], p[8802], p[8806], p[8807])


@dataclass(frozen=True)
class LocalOrthographic:
    """EPSG 1130: the ellipsoid seen from straight above the centre, turned and scaled."""

    ellipsoid: Ellipsoid
    lat_centre: float
    lon_centre: float
    azimuth: float
    scale: float
    false_easting: float
    false_northing: float

    def forward(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        e2, a = self.ellipsoid.eccentricity**2, self.ellipsoid.semi_major
        sine0, cosine0 = math.sin(self.lat_centre), math.cos(self.lat_centre)
        normal0 = a / math.sqrt(1 - e2 * sine0 * sine0)
        with np.errstate(invalid="ignore"):
            normal, away = a / np.sqrt(1 - e2 * np.sin(lat) ** 2), lon - self.lon_centre
            east = normal * np.cos(lat) * np.sin(away)
            north = normal * (np.sin(lat) * cosine0 - np.cos(lat) * sine0 * np.cos(away))
            north = north + e2 * (normal0 * sine0 - normal * np.sin(lat)) * cosine0
            seen = np.sin(lat) * sine0 + np.cos(lat) * cosine0 * np.cos(away) > 0.02
        sine, cosine = math.sin(self.azimuth), math.cos(self.azimuth)
        x = self.false_easting + self.scale * (east * cosine - north * sine)
        y = self.false_northing + self.scale * (east * sine + north * cosine)
        return np.where(seen, x, np.nan), np.where(seen, y, np.nan)

    def inverse(self, x: Array, y: Array) -> tuple[Array, Array]:
        sine, cosine = math.sin(self.azimuth), math.cos(self.azimuth)
        dx, dy = (x - self.false_easting) / self.scale, (y - self.false_northing) / self.scale
        east, north = dx * cosine + dy * sine, dy * cosine - dx * sine
        reach = np.hypot(east, north)
        with np.errstate(invalid="ignore"):
            arc = np.arcsin(reach / self.ellipsoid.semi_major) * self.ellipsoid.semi_major
        lon0, lat0 = np.full(reach.shape, self.lon_centre), np.full(reach.shape, self.lat_centre)
        lon, lat = destination(self.ellipsoid, lon0, lat0, np.arctan2(east, north), arc)
        return inverted(self.forward, x, y, lon, lat)


def local_orthographic(ellipsoid: Ellipsoid, p: Parameters) -> LocalOrthographic:
    return LocalOrthographic(ellipsoid, p[8811], p[8812], p[8813], p[8815], p[8816], p[8817])


_NZ_LATITUDE = (
    0.6399175073, -0.1358797613, 0.063294409, -0.02526853, 0.0117879, -0.0055161, 0.0026906, -0.001333,
    0.00067, -0.00034,
)  # fmt: skip
_NZ_PLANE = (
    0.7557853228 + 0j, 0.249204646 + 0.003371507j, -0.001541739 + 0.041058560j,
    -0.10162907 + 0.01727609j, -0.26623489 - 0.36249218j, -0.6870983 - 1.1651967j,
)  # fmt: skip


@dataclass(frozen=True)
class NewZealandMapGrid:
    """EPSG 9811: a polynomial of isometric latitude and longitude in the complex plane."""

    ellipsoid: Ellipsoid
    lat_origin: float
    lon_origin: float
    false_easting: float
    false_northing: float

    def forward(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        seconds = (lat - self.lat_origin) * (180 * 3600 / math.pi * 1e-5)
        with np.errstate(invalid="ignore", over="ignore"):
            psi = sum(c * seconds**n for n, c in enumerate(_NZ_LATITUDE, 1))
            at = psi + 1j * wrapped(lon - self.lon_origin)
            plane = self.ellipsoid.semi_major * sum(c * at**n for n, c in enumerate(_NZ_PLANE, 1))
            inside = np.abs(at) < 0.3
        x, y = self.false_easting + plane.imag, self.false_northing + plane.real
        return np.where(inside, x, np.nan), np.where(inside, y, np.nan)

    def inverse(self, x: Array, y: Array) -> tuple[Array, Array]:
        a = self.ellipsoid.semi_major
        lat = self.lat_origin + (y - self.false_northing) / a
        lon = self.lon_origin + (x - self.false_easting) / (a * np.cos(lat))
        return inverted(self.forward, x, y, lon, lat)


def new_zealand(ellipsoid: Ellipsoid, p: Parameters) -> NewZealandMapGrid:
    return NewZealandMapGrid(ellipsoid, p[8801], p[8802], p[8806], p[8807])


_GRAD = math.pi / 200
_KILOMETRES_EAST, _SOUTH, _NORTH = 0.012185 * _GRAD, 0.01002 * _GRAD, 0.010015 * _GRAD


@dataclass(frozen=True)
class TunisiaMiningGrid:
    """EPSG 9816: so many grads a kilometre, other ones north of the origin than south."""

    lat_origin: float
    lon_origin: float
    false_easting: float
    false_northing: float

    def forward(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        up = lat - self.lat_origin
        x = self.false_easting + 1000 * wrapped(lon - self.lon_origin) / _KILOMETRES_EAST
        inside = (np.abs(up) < 0.2) & (np.abs(lon - self.lon_origin) < 0.2)
        y = self.false_northing + 1000 * up / np.where(up > 0, _NORTH, _SOUTH)
        return np.where(inside, x, np.nan), np.where(inside, y, np.nan)

    def inverse(self, x: Array, y: Array) -> tuple[Array, Array]:
        up = (y - self.false_northing) / 1000
        lat = self.lat_origin + up * np.where(up > 0, _NORTH, _SOUTH)
        return self.lon_origin + (x - self.false_easting) / 1000 * _KILOMETRES_EAST, lat


def tunisia(ellipsoid: Ellipsoid, p: Parameters) -> TunisiaMiningGrid:
    return TunisiaMiningGrid(p[8821], p[8822], p[8826], p[8827])
