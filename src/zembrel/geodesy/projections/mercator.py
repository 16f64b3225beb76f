"""Mercator projections of the sphere and the ellipsoid, and equidistant cylinders.

Source: IOGP Guidance Note 7-2 (EPSG 9804, 9805, 1024, 1028, 1029).
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from zembrel.geodesy.ellipsoid import Array, Ellipsoid
from zembrel.geodesy.latitudes import from_isometric, from_meridian_arc, isometric, meridian_arc
from zembrel.geodesy.projections.conformal_cone import parallel_radius
from zembrel.geodesy.projections.solve import wrapped

Parameters = Mapping[int, float]
_POLE = math.pi / 2 - 1e-9


@dataclass(frozen=True)
class PseudoMercator:
    """EPSG 1024: spherical formulas with ellipsoidal latitudes, as web maps use them."""

    radius: float
    lon_origin: float
    false_easting: float
    false_northing: float

    def forward(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        with np.errstate(all="ignore"):
            x = self.false_easting + self.radius * (lon - self.lon_origin)
            y = self.false_northing + self.radius * np.arcsinh(np.tan(lat))
        inside = np.abs(lat) < _POLE
        return np.where(inside, x, np.nan), np.where(inside, y, np.nan)

    def inverse(self, x: Array, y: Array) -> tuple[Array, Array]:
        lon = self.lon_origin + (x - self.false_easting) / self.radius
        with np.errstate(over="ignore"):
            return lon, np.arctan(np.sinh((y - self.false_northing) / self.radius))


def pseudo(ellipsoid: Ellipsoid, p: Parameters) -> PseudoMercator:
    """From EPSG parameters 8802 (longitude of origin), 8806 and 8807."""
    return PseudoMercator(ellipsoid.semi_major, p.get(8802, 0.0), p.get(8806, 0.0), p.get(8807, 0.0))


@dataclass(frozen=True)
class Mercator:
    """EPSG 9804 and 9805: conformal on the ellipsoid, `size` metres a radian of longitude."""

    ellipsoid: Ellipsoid
    size: float
    lon_origin: float
    false_easting: float
    false_northing: float

    def forward(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        inside = np.where(np.abs(lat) < _POLE, lat, np.nan)
        x = self.false_easting + self.size * wrapped(lon - self.lon_origin)
        return np.where(np.isnan(inside), np.nan, x), self.false_northing + self.size * isometric(
            self.ellipsoid, inside
        )

    def inverse(self, x: Array, y: Array) -> tuple[Array, Array]:
        lat = from_isometric(self.ellipsoid, (y - self.false_northing) / self.size)
        return self.lon_origin + (x - self.false_easting) / self.size, lat


def by_scale(ellipsoid: Ellipsoid, p: Parameters) -> Mercator:
    """EPSG 9804: a scale at the equator."""
    return Mercator(ellipsoid, ellipsoid.semi_major * p[8805], p[8802], p[8806], p[8807])


def by_parallel(ellipsoid: Ellipsoid, p: Parameters) -> Mercator:
    """EPSG 9805: true at a standard parallel."""
    size = ellipsoid.semi_major * parallel_radius(ellipsoid, p[8823])
    return Mercator(ellipsoid, size, p[8802], p[8806], p[8807])


@dataclass(frozen=True)
class EquidistantCylinder:
    """EPSG 1028; 1029 when `spherical`: meridians true, parallels as long as that of `lat_true`."""

    ellipsoid: Ellipsoid
    lat_true: float
    lon_origin: float
    false_easting: float
    false_northing: float
    spherical: bool = False

    @property
    def _across(self) -> float:
        if self.spherical:
            return self.ellipsoid.semi_major * math.cos(self.lat_true)
        return self.ellipsoid.semi_major * parallel_radius(self.ellipsoid, self.lat_true)

    def forward(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        lat = np.where(np.abs(lat) <= math.pi / 2 + 1e-12, lat, np.nan)
        up = self.ellipsoid.semi_major * lat if self.spherical else meridian_arc(self.ellipsoid, lat)
        return self.false_easting + self._across * wrapped(lon - self.lon_origin), self.false_northing + up

    def inverse(self, x: Array, y: Array) -> tuple[Array, Array]:
        up = y - self.false_northing
        lat = up / self.ellipsoid.semi_major if self.spherical else from_meridian_arc(self.ellipsoid, up)
        outside = ~(np.abs(lat) <= math.pi / 2 + 1e-12)
        lon = self.lon_origin + (x - self.false_easting) / self._across
        return np.where(outside, np.nan, lon), np.where(outside, np.nan, lat)


def equidistant(ellipsoid: Ellipsoid, p: Parameters) -> EquidistantCylinder:
    return EquidistantCylinder(ellipsoid, p[8823], p[8802], p[8806], p[8807])


def spherical_equidistant(ellipsoid: Ellipsoid, p: Parameters) -> EquidistantCylinder:
    return EquidistantCylinder(ellipsoid, p[8823], p[8802], p[8806], p[8807], spherical=True)
