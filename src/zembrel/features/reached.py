"""The cells and points within a distance of points, along the ellipsoid itself."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import shapely

from zembrel.features.scanned import Outlines
from zembrel.features.table import Geometries
from zembrel.geodesy.around import circles
from zembrel.geodesy.crs import CRS, GeographicCRS, ProjectedCRS
from zembrel.geodesy.geodesic import between
from zembrel.grid.frame import Array, Frame
from zembrel.measure import Length
from zembrel.raster.kernels import scan

Integers = npt.NDArray[np.int64]
_SAMPLES = 128  # places on a circle, between which cubic pieces are off by some 1e-8 of its radius
_STEPS = 5  # of Newton's method, kept between ends; the first guess is right for circles
_WIDER = 1.001  # times the distance: polygons of this size contain the circle


@dataclass(frozen=True, eq=False)
class Discs:
    """What lies within `metres` of points at x, y (n,) in `crs`, each of which is the zone of that number."""

    crs: GeographicCRS | ProjectedCRS
    zones: Integers
    x: Array
    y: Array
    metres: float

    def exactly(self, zone: Integers, feature: Integers, geometries: Geometries) -> tuple[Integers, Integers]:
        """Return pairs of zones and features that meet, those of discs and points by their distance."""
        points = shapely.get_type_id(geometries) == 0
        others = ~(np.isin(zone, self.zones) & points[feature])
        which = np.flatnonzero(points)
        wide = shapely.polygons(circles(self.crs, self.x, self.y, self._all(_WIDER), _SAMPLES))
        disc, point = shapely.STRtree(geometries[which]).query(wide, predicate="intersects")
        x, y = shapely.get_x(geometries[which[point]]), shapely.get_y(geometries[which[point]])
        ends = *self.crs.to_geographic(self.x[disc], self.y[disc]), *self.crs.to_geographic(x, y)
        near = between(self.crs.datum.ellipsoid, *ends)[0] <= self.metres
        return (
            np.concatenate([zone[others], self.zones[disc[near]]]),
            np.concatenate([feature[others], which[point[near]]]),
        )

    def outlines(self, values: Array, frame: Frame) -> Outlines:
        """Return the discs in cells of a frame, as polygons to find cells by their middles.

        They cross each line of middles where the disc does, and are not the disc between these lines.
        """
        rings = circles(self.crs, self.x, self.y, self._all(1.0), _SAMPLES)[:, :-1]
        known = np.isfinite(rings).all(axis=(1, 2))
        column, row = frame.corners.position(*np.moveaxis(rings[known], 2, 0))
        return _crossed(_Curve.of(np.asarray(column)), _Curve.of(np.asarray(row)), values[known], frame.rows)

    def _all(self, times: float) -> Array:
        return np.full(self.x.size, self.metres * times)


@dataclass(frozen=True, eq=False)
class _Curve:
    """A coordinate along closed curves, (n, samples), between its samples by cubic pieces (Hermite's)."""

    values: Array
    slopes: Array

    @classmethod
    def of(cls, values: Array) -> _Curve:
        near, far = (np.roll(values, -n, 1) - np.roll(values, n, 1) for n in (1, 2))
        return cls(values, (8 * near - far) / 12)

    def at(self, curve: Integers, place: Array) -> tuple[Array, Array]:
        """Return the coordinate and its slope at places counted in samples."""
        low = np.floor(place).astype(np.int64)
        u = place - low
        first, second = low % _SAMPLES, (low + 1) % _SAMPLES
        a, b = self.values[curve, first], self.values[curve, second]
        p, q = self.slopes[curve, first], self.slopes[curve, second]
        c, d = 3 * (b - a) - 2 * p - q, 2 * (a - b) + p + q
        return a + u * (p + u * (c + u * d)), p + u * (2 * c + 3 * u * d)

    def turn(self, near: Integers) -> Array:
        """Return the place of the extreme of each curve, whose sample is the nearest."""
        curve = np.arange(len(near))
        low, high = (near.astype(np.float64) + n for n in (-1, 1))
        rises = self.at(curve, low)[1] > 0
        for _ in range(40):
            middle = (low + high) / 2
            before = (self.at(curve, middle)[1] > 0) == rises
            low, high = np.where(before, middle, low), np.where(before, high, middle)
        return (low + high) / 2

    def crossing(self, curve: Integers, ends: tuple[Array, Array], level: Array) -> Array:
        """Return the place between `ends`, where the coordinate is below and above it, that has `level`."""
        low, high = ends
        (bottom, _), (top, _) = self.at(curve, low), self.at(curve, high)
        share = np.clip((level - bottom) / (top - bottom), 0, 1)
        place = low + np.arccos(1 - 2 * share) / np.pi * (high - low)
        for _ in range(_STEPS):
            value, slope = self.at(curve, place)
            below = value < level
            low, high = np.where(below, place, low), np.where(below, high, place)
            with np.errstate(divide="ignore", invalid="ignore"):
                place = place - (value - level) / slope
            inside = (place - low) * (place - high) <= 0
            place = np.where(inside, place, (low + high) / 2)
        return place


def discs(geometries: Geometries, reach: Length, crs: CRS | None) -> Discs | None:
    """Return what lies within `reach` of those geometries that are points; None for a reach in CRS units."""
    if reach.kind != "length" or not isinstance(crs, GeographicCRS | ProjectedCRS):
        return None
    zones = np.flatnonzero((shapely.get_type_id(geometries) == 0) & ~shapely.is_empty(geometries))
    x, y = shapely.get_x(geometries[zones]), shapely.get_y(geometries[zones])
    return Discs(crs, zones, x, y, reach.in_unit("length", 1.0))


def _crossed(columns: _Curve, rows: _Curve, values: Array, height: int) -> Outlines:
    """Return polygons through the extremes of curves, and through their crossings of half rows."""
    top, bottom = rows.turn(rows.values.argmin(axis=1)), rows.turn(rows.values.argmax(axis=1))
    every = np.arange(len(values))
    first = np.maximum(np.ceil(rows.at(every, top)[0] - 0.5), 0).astype(np.int64)
    last = np.minimum(np.floor(rows.at(every, bottom)[0] - 0.5), height - 1).astype(np.int64)
    counts = np.maximum(last - first + 1, 0)
    curve = np.repeat(every, counts)
    number = np.arange(counts.sum()) - np.repeat(np.cumsum(counts) - counts, counts)
    level = first[curve] + number + 0.5
    ahead = np.where(bottom > top, bottom, bottom + _SAMPLES)
    starts = np.concatenate([[0], np.cumsum(2 * counts + 2)]).astype(np.int64)
    at = np.empty((starts[-1], 2))
    for place, position in ((top, starts[:-1]), (bottom, starts[:-1] + counts + 1)):
        at[position] = np.column_stack([columns.at(every, place)[0], rows.at(every, place)[0]])
    for low, position in ((ahead, 1 + number), (ahead - _SAMPLES, 2 * counts[curve] + 1 - number)):
        place = rows.crossing(curve, (top[curve], low[curve]), level)
        at[starts[curve] + position] = np.column_stack([columns.at(curve, place)[0], level])
    following = np.arange(1, len(at) + 1)
    following[starts[1:] - 1] = starts[:-1]
    low, high = (extreme.reduceat(at, starts[:-1]) for extreme in (np.minimum, np.maximum))
    kinds = np.full(len(values), scan.INSIDE, np.int64)
    return Outlines(np.hstack([at, at[following]]), starts, kinds, values, np.hstack([low, high]))
