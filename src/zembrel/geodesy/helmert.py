"""Datum transformations by arithmetic: geocentric translations, 7-parameter ones, offsets, rotations.

Source: IOGP Guidance Note 7-2, section on coordinate transformations (EPSG methods 9603, 1031, 1035, 9606,
1033, 1037, 9607, 1032, 1038, 1053, 1054, 1056, 1057, 1061 to 1066, 9636, 1034, 9601, 9619, 9618, 9660).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from zembrel.geodesy.ellipsoid import Array, Ellipsoid

Values = Mapping[int, float]
TRANSLATIONS = (9603, 1031, 1035)
POSITION_VECTOR = (9606, 1033, 1037, 1053, 1054, 1055, 1061, 1062, 1065)
COORDINATE_FRAME = (9607, 1032, 1038, 1056, 1057, 1058, 1063, 1066)
MOLODENSKY_BADEKAS = (9636, 1034, 1039, 1061, 1062, 1063)
OFFSETS = (9601, 9619, 9618, 9660)
METHODS = frozenset({*TRANSLATIONS, *POSITION_VECTOR, *COORDINATE_FRAME, *MOLODENSKY_BADEKAS, *OFFSETS})
_RATES = {8605: 1040, 8606: 1041, 8607: 1042, 8608: 1043, 8609: 1044, 8610: 1045, 8611: 1046}
_REFERENCE_EPOCH, _TRANSFORMATION_EPOCH = 1047, 1049
_PIVOT = (8617, 8618, 8667)
_STEPS = 8


def geocentric(ellipsoid: Ellipsoid, lon: Array, lat: Array, height: Array) -> tuple[Array, Array, Array]:
    """Geocentric X, Y, Z in metres (method 9602)."""
    e2 = ellipsoid.eccentricity**2
    normal = ellipsoid.normal_radius(lat)
    flat = (normal + height) * np.cos(lat)
    return flat * np.cos(lon), flat * np.sin(lon), (normal * (1 - e2) + height) * np.sin(lat)


def geographic(ellipsoid: Ellipsoid, x: Array, y: Array, z: Array) -> tuple[Array, Array, Array]:
    """Longitude, latitude and ellipsoidal height, iterated to some nanometres."""
    e2, a = ellipsoid.eccentricity**2, ellipsoid.semi_major
    flat = np.hypot(x, y)
    lat = np.arctan2(z, flat * (1 - e2))
    for _ in range(_STEPS):
        normal = ellipsoid.normal_radius(lat)
        lat = np.arctan2(z + e2 * normal * np.sin(lat), flat)
    sine, cosine = np.sin(lat), np.cos(lat)
    height = flat * cosine + z * sine - a * np.sqrt(1 - e2 * sine**2)
    return np.arctan2(y, x), lat, height


@dataclass(frozen=True)
class Helmert:
    """X' = T + pivot + (1 + s) R (X - pivot), in radians, metres and ones."""

    translation: tuple[float, float, float]
    rotation: tuple[float, float, float] = (0.0, 0.0, 0.0)  # position-vector sense
    scale: float = 0.0
    pivot: tuple[float, float, float] = (0.0, 0.0, 0.0)

    def _matrix(self) -> Array:
        rx, ry, rz = self.rotation
        turn = np.array([[1, -rz, ry], [rz, 1, -rx], [-ry, rx, 1]])
        return (1 + self.scale) * turn

    def forward(self, xyz: Array) -> Array:
        """xyz: (3, n)."""
        pivot = np.array(self.pivot)[:, None]
        moved: Array = np.array(self.translation)[:, None] + pivot + self._matrix() @ (xyz - pivot)
        return moved

    def inverse(self, xyz: Array) -> Array:
        pivot = np.array(self.pivot)[:, None]
        moved = xyz - np.array(self.translation)[:, None] - pivot
        back: Array = np.linalg.solve(self._matrix(), moved) + pivot
        return back


def reference_epoch(values: Values) -> float | None:
    """The epoch that the values hold for, if rates say how they change; a decimal year."""
    return values.get(_REFERENCE_EPOCH) if any(rate in values for rate in _RATES.values()) else None


def helmert(method: int, values: Values, epoch: float | None = None) -> Helmert:
    """The transformation of `method`; time-dependent ones at `epoch` (default: their own reference).

    values: by EPSG parameter code; rates of angles in radians a year, and so on.
    """
    at = dict(values)
    if _REFERENCE_EPOCH in at and epoch is not None:
        years = epoch - at[_REFERENCE_EPOCH]
        for code, rate in _RATES.items():
            at[code] = at.get(code, 0.0) + years * at.get(rate, 0.0)
    sign = -1.0 if method in COORDINATE_FRAME or method in (9636, 1034, 1039) else 1.0
    translation, rotation = (
        [at.get(code, 0.0) for code in group] for group in ((8605, 8606, 8607), (8608, 8609, 8610))
    )
    pivot = [at.get(code, 0.0) for code in _PIVOT] if method in MOLODENSKY_BADEKAS else [0.0] * 3
    x, y, z = (sign * angle for angle in rotation)
    return Helmert((*translation,), (x, y, z), at.get(8611, 0.0), (*pivot,))  # type: ignore[arg-type]


@dataclass(frozen=True)
class Offset:
    """Longitude and latitude differ by constants, radians."""

    lon: float
    lat: float


def offset(values: Values) -> Offset:
    """From parameters 8601 (latitude) and 8602 (longitude)."""
    return Offset(values.get(8602, 0.0), values.get(8601, 0.0))
