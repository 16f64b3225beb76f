"""Lambert conic conformal in its variants, and the polar stereographic as the cone that became a plane.

Source: IOGP Guidance Note 7-2, sections on Lambert Conic Conformal (EPSG 9801, 9802, 9803, 9826, 1051,
1102) and Polar Stereographic (9810, 9829, 9830).
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from zembrel.geodesy.ellipsoid import Array, Ellipsoid
from zembrel.geodesy.latitudes import from_isometric, isometric
from zembrel.geodesy.projections.placed import Placed

Parameters = Mapping[int, float]
BELGIAN_TURN = math.radians(29.2985 / 3600)  # of method 9803; it stands in its text alone


@dataclass(frozen=True)
class ConformalCone:
    """Radius `size` exp(-constant psi) at isometric latitude psi, angle constant * longitude - turn.

    constant: 1 for a plane at the north pole, -1 at the south pole (then size is negative).
    """

    ellipsoid: Ellipsoid
    constant: float
    size: float
    origin_radius: float
    turn: float = 0.0

    def forward(self, away: Array, lat: Array) -> tuple[Array, Array]:
        """East and north; NaN at the pole that lies infinitely far."""
        radius = self.size * np.exp(-self.constant * isometric(self.ellipsoid, lat))
        radius[lat * math.copysign(1.0, self.constant) <= 1e-9 - math.pi / 2] = np.nan
        angle = self.constant * away - self.turn
        return radius * np.sin(angle), self.origin_radius - radius * np.cos(angle)

    def inverse(self, east: Array, north: Array) -> tuple[Array, Array]:
        """Longitude, more than half a turn in the gap of the unrolled cone, and latitude."""
        sign = math.copysign(1.0, self.constant)
        east, down = sign * east, sign * (self.origin_radius - north)
        psi = -np.log(np.hypot(east, down) / abs(self.size)) / self.constant
        return (np.arctan2(east, down) + self.turn) / self.constant, from_isometric(self.ellipsoid, psi)


def _psi(ellipsoid: Ellipsoid, lat: float) -> float:
    return float(isometric(ellipsoid, np.array([lat]))[0])


def one_parallel(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    """EPSG 9801, and 1102 when the false origin has a latitude of its own."""
    lat = p[8801]
    constant = math.sin(lat)
    size = p[8805] * float(ellipsoid.parallel_radius(lat)) / constant
    size *= math.exp(constant * _psi(ellipsoid, lat))
    false_lat, lon = p.get(8821, lat), p.get(8822, p.get(8802, 0.0))
    origin = size * math.exp(-constant * _psi(ellipsoid, false_lat))
    easting, northing = p.get(8826, p.get(8806, 0.0)), p.get(8827, p.get(8807, 0.0))
    return Placed(ConformalCone(ellipsoid, constant, size, origin), lon, easting, northing)


def west_orientated(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    """EPSG 9826: a westing is registered; x = -westing comes out here."""
    return one_parallel(ellipsoid, {**p, 8806: -p[8806]})


def two_parallels(ellipsoid: Ellipsoid, p: Parameters, turn: float = 0.0) -> Placed:
    """EPSG 9802; with parameter 1038 the Michigan variant 1051."""
    first, second = p[8823], p[8824]
    radii = float(ellipsoid.parallel_radius(first)), float(ellipsoid.parallel_radius(second))
    psi = _psi(ellipsoid, first), _psi(ellipsoid, second)
    same = abs(first - second) < 1e-10
    constant = math.sin(first) if same else (math.log(radii[0]) - math.log(radii[1])) / (psi[1] - psi[0])
    size = p.get(1038, 1.0) * radii[0] / constant * math.exp(constant * psi[0])
    at_pole = abs(abs(p[8821]) - math.pi / 2) < 1e-9
    origin = 0.0 if at_pole else size * math.exp(-constant * _psi(ellipsoid, p[8821]))
    return Placed(ConformalCone(ellipsoid, constant, size, origin, turn), p[8822], p[8826], p[8827])


def belgian(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    """EPSG 9803: two parallels, all angles less by 29.2985 arc-seconds."""
    return two_parallels(ellipsoid, p, BELGIAN_TURN)


def _pole_size(ellipsoid: Ellipsoid, scale: float) -> float:
    e = ellipsoid.eccentricity
    return 2 * ellipsoid.semi_major * scale / math.sqrt((1 + e) ** (1 + e) * (1 - e) ** (1 - e))


def polar_by_scale(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    """EPSG 9810: scale at the pole."""
    sign = math.copysign(1.0, p[8801])
    plane = ConformalCone(ellipsoid, sign, sign * _pole_size(ellipsoid, p[8805]), 0.0)
    return Placed(plane, p[8802], p[8806], p[8807])


def polar_by_parallel(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    """EPSG 9829: true at a standard parallel; 9830: its false origin lies on that parallel, too."""
    lat, sign = p[8832], math.copysign(1.0, p[8832])
    at_pole = abs(abs(lat) - math.pi / 2) < 1e-9
    radius = 0.0 if at_pole else float(ellipsoid.parallel_radius(lat))
    size = _pole_size(ellipsoid, 1.0) if at_pole else radius * math.exp(_psi(ellipsoid, abs(lat)))
    if 8827 in p:
        plane = ConformalCone(ellipsoid, sign, sign * size, sign * radius)
        return Placed(plane, p[8833], p[8826], p[8827])
    return Placed(ConformalCone(ellipsoid, sign, sign * size, 0.0), p[8833], p[8806], p[8807])
