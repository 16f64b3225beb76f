"""Coordinate operations (ISO 19111): coordinates of one CRS into another."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from zembrel.errors import InputError
from zembrel.geodesy.crs import CRS, GeographicCRS, ProjectedCRS, UnresolvedCRS, label, metres_per_unit, same
from zembrel.geodesy.ellipsoid import Array
from zembrel.geodesy.heights import HeightChange, height_change
from zembrel.geodesy.registry import entry
from zembrel.geodesy.shifts import Shift, shift
from zembrel.geodesy.transformation import Bounds
from zembrel.geodesy.ways import holds
from zembrel.reading import readings


@dataclass(frozen=True)
class CoordinateOperation:
    """Takes x and y of `source` to x and y of `target`; NaN where there is no answer."""

    source: GeographicCRS | ProjectedCRS
    target: GeographicCRS | ProjectedCRS
    shift: Shift | None = None  # None: same datum
    heights: HeightChange | None = None  # None: one of them does not say what heights mean

    def __call__(self, x: Array, y: Array) -> tuple[Array, Array]:
        """x, y: arrays of one shape, in the unit of `source`. Returns two of the unit of `target`."""
        if same(self.source, self.target):
            return np.asarray(x, float), np.asarray(y, float)
        lon, lat = self.source.to_geographic(x, y)
        if self.shift is not None:
            lon, lat = self.shift(lon, lat)
        return self.target.from_geographic(lon, lat)

    def with_height(self, x: Array, y: Array, z: Array) -> tuple[Array, Array, Array]:
        """The same with heights, each in the unit and sense that its CRS says; else they stay as they are."""
        lon, lat = self.source.to_geographic(x, y)
        change, up = self.heights, np.asarray(z, float)
        if change is not None:
            up = change.above_ellipsoid(up, lon, lat)
        if self.shift is not None and change is not None and change.ellipsoidal:
            lon, lat, up = self.shift.with_height(lon, lat, up)
        elif self.shift is not None:
            lon, lat = self.shift(lon, lat)
        if change is not None:
            up = change.above_target(up, lon, lat)
        return *(self(x, y) if same(self.source, self.target) else self.target.from_geographic(lon, lat)), up

    def heights_at(self, x: Array, y: Array, z: Array) -> Array:
        """Heights of the target at points x, y of the target, of those of the source, z."""
        change, up = self.heights, np.asarray(z, float)
        if change is None:
            return up
        lon, lat = from_lon, from_lat = self.target.to_geographic(x, y)
        if self.shift is not None:
            from_lon, from_lat = self.shift.inverse(lon, lat)
        up = change.above_ellipsoid(up, from_lon, from_lat)
        if self.shift is not None and change.ellipsoidal:
            _, _, up = self.shift.with_height(from_lon, from_lat, up)
        return change.above_target(up, lon, lat)

    @property
    def changes_heights(self) -> bool:
        """Whether heights come out otherwise than they went in."""
        change = self.heights
        return change is not None and bool(change.describe() or (change.ellipsoidal and self.shift))

    @property
    def inverse(self) -> CoordinateOperation:
        return CoordinateOperation(
            self.target,
            self.source,
            None if self.shift is None else self.shift.inverse,
            None if self.heights is None else self.heights.inverse,
        )

    def checked(self, strict: bool) -> CoordinateOperation:
        """Itself. Raises InputError, if `strict`, where something is taken over as it is."""
        if self.shift is not None:
            self.shift.checked(strict)
        if strict and self.heights is not None and not self.heights.known:
            raise InputError(
                f"no way is known from {label(self.heights.source)} to {label(self.heights.target)}",
                "--strict-crs does not let heights be taken over as they are",
                "leave it out, or give a --height-grid",
            )
        if strict and self._unsaid:
            raise InputError(
                self._unsaid, "--strict-crs does not let that be guessed", "say it with --from-crs"
            )
        return self

    @property
    def _unsaid(self) -> str:
        """What is guessed about heights, if anything."""
        if self.source.vertical is not None or self.target.vertical is None:
            return ""
        return f"{label(self.source)} does not say what heights mean: taken as {label(self.target.vertical)}"

    @property
    def remarks(self) -> tuple[str, ...]:
        """For the receipt: the shift of the datum and the change of heights, if there are any."""
        shifted = "" if self.shift is None else self.shift.describe()
        heights = self.heights.describe() if self.heights else self._unsaid
        return tuple(said for said in (shifted, heights) if said)

    def describe(self) -> str:
        """One phrase for all."""
        return ", ".join(self.remarks) or "same datum"


def operation(source: CRS, target: CRS, place: tuple[float, float] | None = None) -> CoordinateOperation:
    """The operation from `source` to `target`, best at `place` (longitude and latitude, degrees).

    A place outside their areas of use does not count: then it is the middle of the smaller one. What the
    user gave comes with the datum of either (`aided`). Raises InputError if either CRS cannot be computed.
    """
    for crs in (source, target):
        if isinstance(crs, UnresolvedCRS):
            raise crs.refuse()
    assert not isinstance(source, UnresolvedCRS) and not isinstance(target, UnresolvedCRS)
    aid = source.datum.aid or target.datum.aid
    areas = _areas(source, target)
    if place is None or not all(holds(area, place) for area in areas):
        place = _middle(areas)
    heights = height_change(source.vertical, target.vertical, aid.separation if aid else None, place)
    same = source.datum.code == target.datum.code and source.datum == target.datum
    moved = None if same else shift(source.datum, target.datum, place, aid)
    found = CoordinateOperation(source, target, moved, heights)
    if source != target:
        readings.move(label(source), label(target), found.describe())
    return found


@lru_cache(maxsize=256)
def _areas(source: CRS, target: CRS) -> list[Bounds]:
    """The areas of use that are registered."""
    found = [e for crs in (source, target) if crs.code and (e := entry(crs.code))]
    return [e.bounds for e in found if np.isfinite(e.bounds).all()]


def _middle(areas: list[Bounds]) -> tuple[float, float] | None:
    """The middle of the smallest area."""
    if not areas:
        return None
    west, south, east, north = min(areas, key=lambda b: ((b[2] - b[0]) % 360.0001) * (b[3] - b[1]))
    return west + ((east - west) % 360) / 2, (south + north) / 2


_SCALE_STEP = 10.0  # CRS units over which the scale is measured


def ground_scale(crs: CRS | None, x: float, y: float) -> tuple[float, float]:
    """Metres on the ellipsoid in one CRS unit along x and along y near (x, y), by finite differences.

    What `metres_per_unit` says where the place has no coordinates or the CRS is not known.
    """
    across, along = ground_scales(crs, np.array([x]), np.array([y]))[0].tolist()
    return across, along


def ground_scales(crs: CRS | None, x: Array, y: Array) -> Array:
    """The same at many places, (n, 2)."""
    plain = np.array([metres_per_unit(crs, value) for value in y.tolist()])
    if not isinstance(crs, ProjectedCRS):
        return plain
    step, zero = _SCALE_STEP, np.zeros_like(x)
    xs, ys = np.stack([x, x + step, x]), np.stack([y, y, y + step]) + zero
    lon, lat = (np.reshape(angle, xs.shape) for angle in crs.to_geographic(xs.ravel(), ys.ravel()))
    shape = crs.datum.ellipsoid
    across, along = (
        (lon[1:] - lon[0]) * shape.parallel_radius(lat[0]),
        (lat[1:] - lat[0]) * shape.meridian_radius(lat[0]),
    )
    scales = (np.hypot(across, along) / step).T
    return np.where(np.isfinite(scales).all(axis=1, keepdims=True), scales, plain)
