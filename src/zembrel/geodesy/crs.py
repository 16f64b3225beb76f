"""Coordinate reference systems as plain values (ISO 19111).

Inside Zembrel x is first and points right (easting, longitude) and y points up, whatever axis
order the registry gives.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from zembrel.errors import InputError
from zembrel.geodesy.angles import wrapped
from zembrel.geodesy.ellipsoid import Array, Ellipsoid
from zembrel.geodesy.projections import Projection, build
from zembrel.geodesy.projections.placed import Placed
from zembrel.geodesy.units import DEGREE, METRE, Unit

if TYPE_CHECKING:
    from zembrel.geodesy.aid import Aid


@dataclass(frozen=True)
class Datum:
    """A geodetic datum or datum ensemble; the prime meridian is degrees east of Greenwich.

    aid: what the user gave to get from this datum to others; it makes no other datum of it.
    """

    name: str
    ellipsoid: Ellipsoid
    prime_meridian: float = 0.0
    code: int | None = None
    aid: Aid | None = field(default=None, compare=False, repr=False)


@dataclass(frozen=True)
class Conversion:
    """A map projection: EPSG method code and its parameters by EPSG code, in radians and metres."""

    name: str
    method: int
    parameters: tuple[tuple[int, float], ...]
    code: int | None = None


class Circuit(NamedTuple):
    """x of the middle of a world that goes on past its edges, and units of x once around; a CRS whose world
    ends has none."""

    middle: float
    turn: float


@dataclass(frozen=True)
class UnresolvedCRS:
    """A CRS that a file names but Zembrel cannot compute with: kept, compared, never guessed."""

    name: str
    unit: Unit = METRE
    code: int | None = None
    circuit: None = None

    def refuse(self) -> InputError:
        """The error for any use that needs its definition."""
        return InputError(
            f"the CRS {self.name} cannot be computed with",
            "Zembrel knows no x and y for it: it is vertical, local, or of a method it does not have",
            "keep to it, choose another, or overrule what a file says with --from-crs CRS --force-crs",
        )


class VerticalDatum(NamedTuple):
    """The surface that heights start from."""

    name: str
    code: int | None = None


@dataclass(frozen=True)
class VerticalCRS(UnresolvedCRS):
    """Heights, or depths if `down`, from a surface; without a datum from the ellipsoid. It has no x and y."""

    datum: VerticalDatum | None = None
    down: bool = False


ELLIPSOIDAL = VerticalCRS("ellipsoidal height")


@dataclass(frozen=True)
class GeographicCRS:
    """Longitude and latitude on a datum, and what heights there mean, if that is said.

    axes: orientations in the order that is registered.
    """

    name: str
    datum: Datum
    unit: Unit = DEGREE
    code: int | None = None
    axes: tuple[str, ...] = ("north", "east")
    vertical: VerticalCRS | None = None

    def to_geographic(self, x: Array, y: Array) -> tuple[Array, Array]:
        """Longitude from Greenwich and latitude in radians; NaN beyond the poles."""
        radians = math.radians(self.unit.factor)
        lat = np.asarray(y, float) * radians
        lon = np.asarray(x, float) * radians + math.radians(self.datum.prime_meridian)
        return lon, np.where(np.abs(lat) <= math.pi / 2 + 1e-12, lat, np.nan)

    def from_geographic(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        """Inverse of `to_geographic`, longitude within half a turn of the prime meridian."""
        radians = math.radians(self.unit.factor)
        lon = wrapped(np.asarray(lon, float) - math.radians(self.datum.prime_meridian))
        return lon / radians, np.asarray(lat, float) / radians

    @property
    def circuit(self) -> Circuit | None:
        return Circuit(0.0, 360 / self.unit.factor)


@dataclass(frozen=True)
class ProjectedCRS:
    """A map projection of a geographic CRS, and what heights there mean, if that is said.

    axes: orientations in the order that is registered.
    """

    name: str
    base: GeographicCRS
    conversion: Conversion
    unit: Unit = METRE
    code: int | None = None
    axes: tuple[str, ...] = ("east", "north")
    vertical: VerticalCRS | None = None

    @property
    def datum(self) -> Datum:
        return self.base.datum

    @cached_property
    def _projection(self) -> Projection:
        return build(self.conversion.method, self.datum.ellipsoid, dict(self.conversion.parameters))

    def to_geographic(self, x: Array, y: Array) -> tuple[Array, Array]:
        """Longitude from Greenwich and latitude in radians; NaN outside the projection's domain."""
        factor = self.unit.factor
        lon, lat = self._projection.inverse(np.asarray(x, float) * factor, np.asarray(y, float) * factor)
        return lon + math.radians(self.datum.prime_meridian), lat

    def from_geographic(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        """Inverse of `to_geographic`, in the unit of the CRS."""
        lon = np.asarray(lon, float) - math.radians(self.datum.prime_meridian)
        x, y = self._projection.forward(lon, np.asarray(lat, float))
        return x / self.unit.factor, y / self.unit.factor

    @cached_property
    def circuit(self) -> Circuit | None:
        if not isinstance(self._projection, Placed) or not self._projection.endless:
            return None
        middle = self._projection.lon_origin + math.radians(self.datum.prime_meridian)
        x, _ = self.from_geographic(np.array([middle, middle + 1.0]), np.zeros(2))
        return Circuit(float(x[0]), math.tau * float(x[1] - x[0]))


CRS = GeographicCRS | ProjectedCRS | UnresolvedCRS


def vertical_of(crs: CRS | None) -> VerticalCRS | None:
    """What heights in `crs` mean, or None if it does not say."""
    if isinstance(crs, VerticalCRS):
        return crs
    return None if crs is None or isinstance(crs, UnresolvedCRS) else crs.vertical


def with_vertical(crs: CRS, vertical: VerticalCRS | None) -> CRS:
    """`crs` with heights that mean `vertical`."""
    return crs if isinstance(crs, UnresolvedCRS) else replace(crs, vertical=vertical)


def aided(crs: CRS, aid: Aid | None) -> CRS:
    """`crs`, from whose datum others are reached with `aid`."""
    if isinstance(crs, GeographicCRS):
        return replace(crs, datum=replace(crs.datum, aid=aid))
    if isinstance(crs, ProjectedCRS):
        return replace(crs, base=replace(crs.base, datum=replace(crs.datum, aid=aid)))
    return crs


def label(crs: CRS | None) -> str:
    """`EPSG:32626 WGS 84 / UTM zone 26N`, or `no CRS`; what its heights mean follows a plus."""
    if crs is None:
        return "no CRS"
    own = f"EPSG:{crs.code} {crs.name}" if crs.code else crs.name
    vertical = vertical_of(crs)
    return own if vertical in (None, crs) else f"{own} + {label(vertical)}"


def same(one: CRS | None, other: CRS | None) -> bool:
    """Whether coordinates in both mean the same place; names do not count."""
    if one is None or other is None:
        return one is other
    if one == other or (one.code is not None and one.code == other.code):
        return True
    if isinstance(one, GeographicCRS) and isinstance(other, GeographicCRS):
        return one.datum.code == other.datum.code is not None and one.unit == other.unit
    if isinstance(one, ProjectedCRS) and isinstance(other, ProjectedCRS):
        return (
            same(one.base, other.base)
            and one.conversion.method == other.conversion.method
            and one.conversion.parameters == other.conversion.parameters
            and one.unit == other.unit
        )
    return False


def metres_per_unit(crs: CRS | None, y: float) -> tuple[float, float]:
    """Metres in one CRS unit along x and along y near ordinate `y`; (1, 1) without a CRS.

    Exact along the ellipsoid for geographic CRSs, to its flattening for one of a rotated pole; a
    projection's own scale is left out.
    """
    if crs is None:
        return 1.0, 1.0
    if crs.unit.kind == "angle" and not isinstance(crs, UnresolvedCRS):
        radians = math.radians(crs.unit.factor)
        shape, lat = crs.datum.ellipsoid, y * radians
        return float(shape.parallel_radius(lat)) * radians, float(shape.meridian_radius(lat)) * radians
    return crs.unit.factor, crs.unit.factor
