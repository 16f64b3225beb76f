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
from zembrel.geodesy.projections.placed import Placed
from zembrel.geodesy.projections.solve import inverted

Parameters = Mapping[int, float]


@dataclass(frozen=True)
class AzimuthalEquidistant:
    """EPSG 1125: distance and azimuth of the geodesic from the origin."""

    ellipsoid: Ellipsoid
    lat_origin: float

    def forward(self, away: Array, lat: Array) -> tuple[Array, Array]:
        lat0 = np.full(np.shape(lat), self.lat_origin)
        metres, azimuth = between(self.ellipsoid, np.zeros_like(lat0), lat0, away, lat)
        return metres * np.sin(azimuth), metres * np.cos(azimuth)

    def inverse(self, east: Array, north: Array) -> tuple[Array, Array]:
        reach = np.hypot(east, north)
        reach = np.where(reach < math.pi * self.ellipsoid.semi_minor, reach, np.nan)
        lat0 = np.full(reach.shape, self.lat_origin)
        return destination(self.ellipsoid, np.zeros_like(lat0), lat0, np.arctan2(east, north), reach)


def azimuthal_equidistant(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    return Placed(AzimuthalEquidistant(ellipsoid, p[8801]), p[8802], p[8806], p[8807])


@dataclass(frozen=True)
class ModifiedAzimuthalEquidistant(AzimuthalEquidistant):
    """EPSG 9832: normal sections in place of geodesics, for islands."""

    def forward(self, away: Array, lat: Array) -> tuple[Array, Array]:
        e2 = self.ellipsoid.eccentricity**2
        sine0, cosine0 = math.sin(self.lat_origin), math.cos(self.lat_origin)
        normal0, normal = (self.ellipsoid.normal_radius(at) for at in (self.lat_origin, lat))
        psi = np.arctan((1 - e2) * np.tan(lat) + e2 * normal0 * sine0 / (normal * np.cos(lat)))
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
        return np.where(inside, reach, np.nan) * np.sin(azimuth), reach * np.cos(azimuth)

    def inverse(self, east: Array, north: Array) -> tuple[Array, Array]:
        return inverted(self.forward, east, north, *super().inverse(east, north))


def modified_azimuthal_equidistant(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    return Placed(ModifiedAzimuthalEquidistant(ellipsoid, p[8801]), p[8802], p[8806], p[8807])


@dataclass(frozen=True)
class LocalOrthographic:
    """EPSG 1130: the ellipsoid seen from straight above the centre, turned and scaled."""

    ellipsoid: Ellipsoid
    lat_centre: float
    azimuth: float
    scale: float

    def forward(self, away: Array, lat: Array) -> tuple[Array, Array]:
        e2 = self.ellipsoid.eccentricity**2
        sine0, cosine0 = math.sin(self.lat_centre), math.cos(self.lat_centre)
        normal0, normal = (self.ellipsoid.normal_radius(at) for at in (self.lat_centre, lat))
        east = normal * np.cos(lat) * np.sin(away)
        north = normal * (np.sin(lat) * cosine0 - np.cos(lat) * sine0 * np.cos(away))
        north = north + e2 * (normal0 * sine0 - normal * np.sin(lat)) * cosine0
        seen = np.sin(lat) * sine0 + np.cos(lat) * cosine0 * np.cos(away) > 0.02
        sine, cosine = math.sin(self.azimuth), math.cos(self.azimuth)
        x = self.scale * (east * cosine - north * sine)
        return np.where(seen, x, np.nan), self.scale * (east * sine + north * cosine)

    def inverse(self, east: Array, north: Array) -> tuple[Array, Array]:
        sine, cosine = math.sin(self.azimuth), math.cos(self.azimuth)
        across = (east * cosine + north * sine) / self.scale
        along = (north * cosine - east * sine) / self.scale
        arc = np.arcsin(np.hypot(across, along) / self.ellipsoid.semi_major) * self.ellipsoid.semi_major
        lat0 = np.full(arc.shape, self.lat_centre)
        guess = destination(self.ellipsoid, np.zeros_like(lat0), lat0, np.arctan2(across, along), arc)
        return inverted(self.forward, east, north, *guess)


def local_orthographic(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    return Placed(LocalOrthographic(ellipsoid, p[8811], p[8813], p[8815]), p[8812], p[8816], p[8817])


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

    def forward(self, away: Array, lat: Array) -> tuple[Array, Array]:
        seconds = (lat - self.lat_origin) * (180 * 3600 / math.pi * 1e-5)
        at = sum(c * seconds**n for n, c in enumerate(_NZ_LATITUDE, 1)) + 1j * away
        plane = np.asarray(self.ellipsoid.semi_major * sum(c * at**n for n, c in enumerate(_NZ_PLANE, 1)))
        return np.where(np.abs(at) < 0.3, plane.imag, np.nan), plane.real

    def inverse(self, east: Array, north: Array) -> tuple[Array, Array]:
        a = self.ellipsoid.semi_major
        lat = self.lat_origin + north / a
        return inverted(self.forward, east, north, east / (a * np.cos(lat)), lat)


def new_zealand(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    return Placed(NewZealandMapGrid(ellipsoid, p[8801]), p[8802], p[8806], p[8807])


_GRAD = math.pi / 200
_KILOMETRES_EAST, _SOUTH, _NORTH = 0.012185 * _GRAD, 0.01002 * _GRAD, 0.010015 * _GRAD


@dataclass(frozen=True)
class TunisiaMiningGrid:
    """EPSG 9816: so many grads a kilometre, other ones north of the origin than south."""

    lat_origin: float

    def forward(self, away: Array, lat: Array) -> tuple[Array, Array]:
        up = lat - self.lat_origin
        inside = (np.abs(up) < 0.2) & (np.abs(away) < 0.2)
        east = np.where(inside, 1000 * away / _KILOMETRES_EAST, np.nan)
        return east, 1000 * up / np.where(up > 0, _NORTH, _SOUTH)

    def inverse(self, east: Array, north: Array) -> tuple[Array, Array]:
        up = north / 1000 * np.where(north > 0, _NORTH, _SOUTH)
        return east / 1000 * _KILOMETRES_EAST, self.lat_origin + up


def tunisia(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    return Placed(TunisiaMiningGrid(p[8821]), p[8822], p[8826], p[8827])
