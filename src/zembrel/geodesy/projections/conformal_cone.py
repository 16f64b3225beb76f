"""Lambert conic conformal in its variants, and the polar stereographic as the cone that became a plane.

Source: IOGP Guidance Note 7-2, sections on Lambert Conic Conformal (EPSG 9801, 9802, 9803, 9826, 1051,
1102) and Polar Stereographic (9810, 9829, 9830).
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from zembrel.geodesy.ellipsoid import Array, Ellipsoid
from zembrel.geodesy.latitudes import from_isometric, isometric
from zembrel.geodesy.projections.solve import wrapped

Parameters = Mapping[int, float]
BELGIAN_TURN = math.radians(29.2985 / 3600)  # of method 9803; it stands in its text alone


@dataclass(frozen=True)
class ConformalCone:
    """Radius `size` exp(-constant psi) at isometric latitude psi, angle constant (lon - lon_origin) - turn.

    constant: 1 for a plane at the north pole, -1 at the south pole (then size is negative).
    """

    ellipsoid: Ellipsoid
    constant: float
    size: float
    origin_radius: float
    lon_origin: float
    false_easting: float
    false_northing: float
    turn: float = 0.0

    def forward(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        """Easting and northing; NaN at the pole that lies infinitely far."""
        with np.errstate(over="ignore", invalid="ignore"):
            radius = self.size * np.exp(-self.constant * isometric(self.ellipsoid, lat))
            far = math.copysign(math.pi / 2 - 1e-9, -self.constant)
            beyond = lat <= far if far < 0 else lat >= far
            radius = np.where(beyond | ~(np.abs(lat) <= math.pi / 2 + 1e-12), np.nan, radius)
            angle = self.constant * wrapped(lon - self.lon_origin) - self.turn
            x = self.false_easting + radius * np.sin(angle)
            y = self.false_northing + self.origin_radius - radius * np.cos(angle)
        return x, y

    def inverse(self, x: Array, y: Array) -> tuple[Array, Array]:
        """Longitude and latitude; NaN in the gap of the unrolled cone."""
        sign = math.copysign(1.0, self.constant)
        east, down = sign * (x - self.false_easting), sign * (self.origin_radius - (y - self.false_northing))
        with np.errstate(divide="ignore", invalid="ignore"):
            psi = -np.log(np.hypot(east, down) / abs(self.size)) / self.constant
            angle = (np.arctan2(east, down) + self.turn) / self.constant
        lat = from_isometric(self.ellipsoid, psi)
        gap = np.abs(angle) > math.pi + 1e-9
        return np.where(gap, np.nan, self.lon_origin + angle), np.where(gap, np.nan, lat)


def _one(function, ellipsoid: Ellipsoid, lat: float) -> float:  # type: ignore[no-untyped-def]
    return float(function(ellipsoid, np.array([lat]))[0])


def parallel_radius(ellipsoid: Ellipsoid, lat: float) -> float:
    """Radius of the parallel over the semi-major axis (m of the Guidance Note)."""
    return math.cos(lat) / math.sqrt(1 - (ellipsoid.eccentricity * math.sin(lat)) ** 2)


def one_parallel(ellipsoid: Ellipsoid, p: Parameters) -> ConformalCone:
    """EPSG 9801, and 1102 when the false origin has a latitude of its own."""
    lat = p[8801]
    constant = math.sin(lat)
    size = ellipsoid.semi_major * p[8805] * parallel_radius(ellipsoid, lat) / constant
    size *= math.exp(constant * _one(isometric, ellipsoid, lat))
    false_lat, lon = p.get(8821, lat), p.get(8822, p.get(8802, 0.0))
    origin = size * math.exp(-constant * _one(isometric, ellipsoid, false_lat))
    easting, northing = p.get(8826, p.get(8806, 0.0)), p.get(8827, p.get(8807, 0.0))
    return ConformalCone(ellipsoid, constant, size, origin, lon, easting, northing)


def west_orientated(ellipsoid: Ellipsoid, p: Parameters) -> ConformalCone:
    """EPSG 9826: a westing is registered; x = -westing comes out here."""
    return one_parallel(ellipsoid, {**p, 8806: -p[8806]})


def two_parallels(ellipsoid: Ellipsoid, p: Parameters) -> ConformalCone:
    """EPSG 9802; with parameter 1038 the Michigan variant 1051."""
    first, second = p[8823], p[8824]
    radii = parallel_radius(ellipsoid, first), parallel_radius(ellipsoid, second)
    psi = _one(isometric, ellipsoid, first), _one(isometric, ellipsoid, second)
    same = abs(first - second) < 1e-10
    constant = math.sin(first) if same else (math.log(radii[0]) - math.log(radii[1])) / (psi[1] - psi[0])
    size = ellipsoid.semi_major * p.get(1038, 1.0) * radii[0] / constant * math.exp(constant * psi[0])
    at_pole = abs(abs(p[8821]) - math.pi / 2) < 1e-9
    origin = 0.0 if at_pole else size * math.exp(-constant * _one(isometric, ellipsoid, p[8821]))
    return ConformalCone(ellipsoid, constant, size, origin, p[8822], p[8826], p[8827])


def belgian(ellipsoid: Ellipsoid, p: Parameters) -> ConformalCone:
    """EPSG 9803: two parallels, all angles less by 29.2985 arc-seconds."""
    return replace(two_parallels(ellipsoid, p), turn=BELGIAN_TURN)


def _plane(ellipsoid: Ellipsoid, p: Parameters, north: bool, size: float) -> ConformalCone:
    sign = 1.0 if north else -1.0
    lon = p[8833] if 8833 in p else p[8802]
    easting, northing = p.get(8806, 0.0), p.get(8807, 0.0)
    return ConformalCone(ellipsoid, sign, sign * size, 0.0, lon, easting, northing)


def _pole_size(ellipsoid: Ellipsoid, scale: float) -> float:
    e = ellipsoid.eccentricity
    return 2 * ellipsoid.semi_major * scale / math.sqrt((1 + e) ** (1 + e) * (1 - e) ** (1 - e))


def polar_by_scale(ellipsoid: Ellipsoid, p: Parameters) -> ConformalCone:
    """EPSG 9810: scale at the pole."""
    return _plane(ellipsoid, p, p[8801] > 0, _pole_size(ellipsoid, p[8805]))


def polar_by_parallel(ellipsoid: Ellipsoid, p: Parameters) -> ConformalCone:
    """EPSG 9829: true at a standard parallel; 9830: its false origin lies on that parallel, too."""
    lat = p[8832]
    north = lat > 0
    if abs(abs(lat) - math.pi / 2) < 1e-9:
        return _plane(ellipsoid, p, north, _pole_size(ellipsoid, 1.0))
    radius = ellipsoid.semi_major * parallel_radius(ellipsoid, lat)
    plane = _plane(ellipsoid, p, north, radius * math.exp(_one(isometric, ellipsoid, abs(lat))))
    if 8827 not in p:
        return plane
    origin = radius if north else -radius
    return replace(plane, origin_radius=origin, false_easting=p[8826], false_northing=p[8827])
