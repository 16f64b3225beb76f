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
from zembrel.geodesy.projections.placed import Placed

Parameters = Mapping[int, float]
_POLE = math.pi / 2 - 1e-9


@dataclass(frozen=True)
class Mercator:
    """EPSG 9804 and 9805: conformal, `size` metres a radian of longitude; 1024 takes geodetic latitudes to
    a sphere as they are."""

    ellipsoid: Ellipsoid
    size: float

    def forward(self, away: Array, lat: Array) -> tuple[Array, Array]:
        return np.where(np.abs(lat) < _POLE, self.size * away, np.nan), self.size * isometric(
            self.ellipsoid, lat
        )

    def inverse(self, east: Array, north: Array) -> tuple[Array, Array]:
        return east / self.size, from_isometric(self.ellipsoid, north / self.size)


def pseudo(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    """EPSG 1024, from parameters 8802, 8806 and 8807."""
    sphere = Ellipsoid("sphere", ellipsoid.semi_major, 0.0)
    return Placed(Mercator(sphere, ellipsoid.semi_major), p[8802], p[8806], p[8807], endless=True)


def by_scale(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    """EPSG 9804: a scale at the equator."""
    size = ellipsoid.semi_major * p[8805]
    return Placed(Mercator(ellipsoid, size), p[8802], p[8806], p[8807], endless=True)


def by_parallel(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    """EPSG 9805: true at a standard parallel."""
    size = float(ellipsoid.parallel_radius(p[8823]))
    return Placed(Mercator(ellipsoid, size), p[8802], p[8806], p[8807], endless=True)


@dataclass(frozen=True)
class EquidistantCylinder:
    """EPSG 1028; 1029 on a sphere: meridians true, parallels as long as that of `lat_true`."""

    ellipsoid: Ellipsoid
    lat_true: float

    def forward(self, away: Array, lat: Array) -> tuple[Array, Array]:
        return self.ellipsoid.parallel_radius(self.lat_true) * away, meridian_arc(self.ellipsoid, lat)

    def inverse(self, east: Array, north: Array) -> tuple[Array, Array]:
        return east / self.ellipsoid.parallel_radius(self.lat_true), from_meridian_arc(self.ellipsoid, north)


def equidistant(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    plain = EquidistantCylinder(ellipsoid, p[8823])
    return Placed(plain, p[8802], p[8806], p[8807], endless=True)


def spherical_equidistant(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    return equidistant(Ellipsoid("sphere", ellipsoid.semi_major, 0.0), p)
