"""Coordinate operations (ISO 19111): coordinates of one CRS into another."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zembrel.geodesy.crs import CRS, GeographicCRS, ProjectedCRS, UnresolvedCRS, metres_per_unit, same
from zembrel.geodesy.ellipsoid import Array


@dataclass(frozen=True)
class Shift:
    """How one datum goes over into another: name, EPSG code and stated accuracy in metres."""

    name: str
    code: int | None
    accuracy: float


# Null transformations of the EPSG Dataset: geocentric translations of zero.
_TO_WGS_84 = {
    6269: Shift("NAD83 to WGS 84 (1)", 1188, 4.0),
    6258: Shift("ETRS89 to WGS 84 (1)", 1149, 1.0),
}


@dataclass(frozen=True)
class CoordinateOperation:
    """Takes x and y of `source` to x and y of `target`; NaN where there is no answer."""

    source: GeographicCRS | ProjectedCRS
    target: GeographicCRS | ProjectedCRS
    shift: Shift | None = None  # None: same datum

    def __call__(self, x: Array, y: Array) -> tuple[Array, Array]:
        """x, y: arrays of one shape, in the unit of `source`. Returns two of the unit of `target`."""
        if same(self.source, self.target):
            return np.asarray(x, float), np.asarray(y, float)
        return self.target.from_geographic(*self.source.to_geographic(x, y))

    @property
    def inverse(self) -> CoordinateOperation:
        return CoordinateOperation(self.target, self.source, self.shift)

    def describe(self) -> str:
        """One phrase for the receipt."""
        if self.shift is None:
            return "same datum"
        code = f" EPSG:{self.shift.code}" if self.shift.code else ""
        return f"datum shift{code} {self.shift.name}, {self.shift.accuracy:g} m"


def operation(source: CRS, target: CRS) -> CoordinateOperation:
    """The operation from `source` to `target`. Raises InputError if either cannot be computed."""
    for crs in (source, target):
        if isinstance(crs, UnresolvedCRS):
            raise crs.refuse()
    assert not isinstance(source, UnresolvedCRS) and not isinstance(target, UnresolvedCRS)
    return CoordinateOperation(source, target, _shift(source.datum.code, target.datum.code))


def _shift(source: int | None, target: int | None) -> Shift | None:
    if source == target:
        return None
    steps = [_TO_WGS_84[code] for code in (source, target) if code in _TO_WGS_84]
    if len(steps) == 1:
        return steps[0]
    return Shift(" and ".join(step.name for step in steps), None, sum(step.accuracy for step in steps))


_SCALE_STEP = 10.0  # CRS units over which the scale is measured


def ground_scale(crs: CRS | None, x: float, y: float) -> tuple[float, float]:
    """Metres on the ellipsoid in one CRS unit along x and along y near (x, y), by finite differences.

    What `metres_per_unit` says where the place has no coordinates or the CRS is not known.
    """
    if not isinstance(crs, ProjectedCRS):
        return metres_per_unit(crs, y)
    xs, ys = np.array([x, x + _SCALE_STEP, x]), np.array([y, y, y + _SCALE_STEP])
    lon, lat = crs.to_geographic(xs, ys)
    if not np.isfinite([lon, lat]).all():
        return metres_per_unit(crs, y)
    parallel, meridian = crs.datum.ellipsoid.radii(float(lat[0]))
    steps = np.hypot((lon[1:] - lon[0]) * parallel, (lat[1:] - lat[0]) * meridian) / _SCALE_STEP
    return float(steps[0]), float(steps[1])
