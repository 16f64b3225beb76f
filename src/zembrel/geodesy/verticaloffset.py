"""Registered differences between two vertical datums: constants and inclined planes.

Source: IOGP Guidance Note 7-2, vertical offset (EPSG method 9616) and vertical offset and slope (1046).
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from zembrel.geodesy.crs import VerticalCRS
from zembrel.geodesy.ellipsoid import Array, Ellipsoid
from zembrel.geodesy.registry import by_code
from zembrel.geodesy.registryfile import rows
from zembrel.geodesy.transformation import Bounds, stated
from zembrel.geodesy.units import value_in_base
from zembrel.geodesy.ways import Place, holds, size

_CONSTANT, _SLOPE = 9616, 1046
_OFFSET, _LAT_ORIGIN, _LON_ORIGIN, _LAT_SLOPE, _LON_SLOPE, _HORIZONTAL = 8603, 8617, 8618, 8730, 8731, 1037


@dataclass(frozen=True)
class Plane:
    """How an offset grows from its evaluation point on; radians, on `ellipsoid`."""

    ellipsoid: Ellipsoid
    lat: float
    lon: float
    lat_slope: float
    lon_slope: float

    def at(self, lon: Array, lat: Array) -> Array:
        """Metres to add at longitudes and latitudes in radians."""
        origin = np.array(self.lat)
        north = float(self.ellipsoid.meridian_radius(origin)) * (lat - self.lat)
        east = float(self.ellipsoid.normal_radius(origin)) * (lon - self.lon) * np.cos(lat)
        rise: Array = self.lat_slope * north + self.lon_slope * east
        return rise


@dataclass(frozen=True)
class VerticalOffset:
    """The registered transformation `code`: metres that heights grow by, everywhere alike or on a plane."""

    code: int
    metres: float
    accuracy: float
    area: Bounds
    plane: Plane | None = None
    backward: bool = False

    def __call__(self, lon: Array, lat: Array) -> Array:
        """Metres to add to heights, upwards, at longitudes and latitudes in radians."""
        rise = self.metres + (0.0 if self.plane is None else self.plane.at(lon, lat))
        return np.broadcast_to(-rise if self.backward else rise, np.shape(lon))

    @property
    def reversed(self) -> VerticalOffset:
        return replace(self, backward=not self.backward)

    def describe(self) -> str:
        """The code and the size for the receipt."""
        about = "" if self.plane is None else "about "
        inverse = "inverse of " if self.backward else ""
        return f"{inverse}EPSG:{self.code}, {about}{-self.metres if self.backward else self.metres:+g} m"


def vertical_offset(source: VerticalCRS, target: VerticalCRS, place: Place) -> VerticalOffset | None:
    """The registered offset between the datums of two vertical CRSs that is best at a place, or None.

    Those whose area of use holds the place come first, then the more accurate.
    """
    found = [*_between(source, target), *(offset.reversed for offset in _between(target, source))]
    return min(
        found, key=lambda o: (not holds(o.area, place), o.accuracy, size(o.area), -o.code), default=None
    )


def _between(source: VerticalCRS, target: VerticalCRS) -> list[VerticalOffset]:
    if source.datum is None or target.datum is None:
        return []
    found = rows(
        """SELECT o.*, e.west, e.south, e.east, e.north, a.orientation FROM operation o
        JOIN crs s ON s.code = o.source JOIN crs t ON t.code = o.target JOIN axis a ON a.cs = s.cs
        LEFT JOIN extent e ON e.code = o.extent
        WHERE o.method IN (?, ?) AND NOT o.deprecated AND s.datum = ? AND t.datum = ?""",
        _CONSTANT, _SLOPE, source.datum.code, target.datum.code,
    )  # fmt: skip
    made = []
    for r in found:
        values = _values(r["code"])
        metres = values[_OFFSET] * (-1 if r["orientation"] == "down" else 1)
        plane = _plane(values) if r["method"] == _SLOPE else None
        made.append(VerticalOffset(r["code"], metres, *stated(r), plane))
    return made


def _values(code: int) -> dict[int, float]:
    found = rows("SELECT parameter, value, unit FROM value WHERE operation = ?", code)
    return {v["parameter"]: value_in_base(v["value"], v["unit"]) for v in found}


def _plane(values: dict[int, float]) -> Plane:
    figure = by_code(int(values[_HORIZONTAL])).datum.ellipsoid  # type: ignore[union-attr]
    slopes = values[_LAT_SLOPE], values[_LON_SLOPE]
    return Plane(figure, values[_LAT_ORIGIN], values[_LON_ORIGIN], *slopes)
