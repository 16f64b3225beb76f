"""Area phrases: the region to keep, as people type it. Nothing here opens a file."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

import numpy as np

from zembrel.errors import InputError, UsageError
from zembrel.geodesy.around import circles, edges_of, step
from zembrel.geodesy.crs import CRS, GeographicCRS, ProjectedCRS, label, same
from zembrel.geodesy.operation import operation
from zembrel.geodesy.registry import by_code, parse_crs
from zembrel.geodesy.units import METRE
from zembrel.measure import Length, parse_length

Bounds = tuple[float, float, float, float]
Ring = list[tuple[float, float]]


@dataclass(frozen=True)
class BoxArea:
    """West, south, east, north; without a CRS they are in that of the result."""

    bounds: Bounds
    crs: CRS | None = None


@dataclass(frozen=True)
class AroundArea:
    """So far each way of a point (`square`) or all around it (`circle`)."""

    shape: str
    x: float
    y: float
    reach: Length
    crs: CRS | None = None

    def ring(self, crs: CRS) -> Ring:
        """The outline in `crs`, around the point in it; a bare reach is in its unit.

        A length, or an angle in a CRS of lengths, is measured along the ellipsoid. Raises InputError where
        the CRS has no place so far away.
        """
        x, y = self._middle(crs)
        if self.reach.kind == "length" and isinstance(crs, GeographicCRS | ProjectedCRS):
            return self._on_ground(crs, x, y, self.reach.in_unit("length", METRE.factor))
        reach = self.reach.in_unit(crs.unit.kind, crs.unit.factor)
        if self.shape == "square":
            return _corners(x - reach, y - reach, x + reach, y + reach)
        turns = np.linspace(0, math.tau, 361)[:-1]
        ring = [(x + reach * math.cos(turn), y + reach * math.sin(turn)) for turn in turns]
        return [*ring, ring[0]]

    def _on_ground(self, crs: GeographicCRS | ProjectedCRS, x: float, y: float, metres: float) -> Ring:
        if self.shape == "square":
            west, south, east, north = (
                step(crs, x, y, way, metres) for way in ((-1, 0), (0, -1), (1, 0), (0, 1))
            )
            ring = _corners(x - west, y - south, x + east, y + north)
        else:
            at = np.array([x]), np.array([y]), np.array([metres])
            ring = [(u, v) for u, v in circles(crs, *at, edges_of(metres))[0].tolist()]
            if isinstance(crs, GeographicCRS):
                ring = _over_pole(ring, crs, y)
        if not np.isfinite(ring).all():
            raise InputError(
                f"{label(crs)} has no place {self.reach} away from {x:.10g},{y:.10g}",
                "it lies outside that CRS's domain",
                "choose a smaller reach, or another CRS with --crs",
            )
        return ring

    def _middle(self, crs: CRS) -> tuple[float, float]:
        if self.crs is None or same(self.crs, crs):
            return self.x, self.y
        x, y = operation(self.crs, crs)(np.array([self.x]), np.array([self.y]))
        if not np.isfinite([x[0], y[0]]).all():
            raise InputError(
                f"the point {self.x:.10g},{self.y:.10g} has no place in {label(crs)}",
                "it lies outside that CRS's domain",
                "check the point and its CRS",
            )
        return float(x[0]), float(y[0])


def _corners(west: float, south: float, east: float, north: float) -> Ring:
    return [(west, south), (east, south), (east, north), (west, north), (west, south)]


def _over_pole(ring: Ring, crs: GeographicCRS, y: float) -> Ring:
    """A ring of degrees that goes once around the Earth holds a pole: it is closed along that."""
    x = np.unwrap([place[0] for place in ring], period=360 / crs.unit.factor)
    if abs(x[-1] - x[0]) < 180 / crs.unit.factor:
        return ring
    pole = math.copysign(90 / crs.unit.factor, y)
    around = [(float(u), v) for u, (_, v) in zip(x, ring, strict=True)]
    return [*around, (around[-1][0], pole), (around[0][0], pole), around[0]]


@dataclass(frozen=True)
class PlaceArea:
    """A named place, found in the places file of `zembrel.toml`, with a reach around it."""

    name: str


@dataclass(frozen=True)
class PathArea:
    """The shapes of a features file, or the extent of a raster or frame file."""

    path: str


Area = BoxArea | AroundArea | PlaceArea | PathArea
_DEGREE = re.compile(r"([NS])(\d{2})([EW])(\d{3})", re.IGNORECASE)


def parse_area(text: str) -> Area:
    """An area phrase: a known prefix wins, then four numbers, then a path.

    Raises UsageError for a phrase of the wrong make, with the hint that mends it.
    """
    prefix, colon, rest = text.partition(":")
    if colon and prefix in ("square", "circle"):
        return _around(prefix, rest)
    if colon and prefix == "place":
        return PlaceArea(rest)
    if colon and prefix == "degree":
        return _degree(rest)
    numbers, crs = split_crs(text)
    values = _numbers(numbers)
    if values is None:
        return PathArea(text)
    if len(values) != 4:
        raise UsageError(
            f"area {text!r} has {len(values)} numbers",
            "west, south, east and north are needed",
            "write W,S,E,N",
        )
    return _box(text, values, crs)


def turned(text: str) -> str | None:
    """An area phrase whose x and y are exchanged; None for one that has no numbers."""
    prefix, colon, rest = text.partition(":")
    shape = prefix + colon if colon and prefix in ("square", "circle") else ""
    numbers, at, crs = (rest if shape else text).partition("@")
    parts = numbers.split(",")
    if len(parts) != (3 if shape else 4):
        return None
    order = (1, 0, 2) if shape else (1, 0, 3, 2)
    return shape + ",".join(parts[n] for n in order) + at + crs


def split_crs(text: str) -> tuple[str, CRS | None]:
    """`...@CRS` apart; `@` counts only when what follows is a CRS."""
    before, at, after = text.rpartition("@")
    if not at:
        return text, None
    try:
        return before, parse_crs(after)
    except InputError:
        if _numbers(before) is not None or after.lower().startswith("epsg:"):
            raise
        return text, None


def check_bounds(bounds: Bounds, crs: CRS | None) -> None:
    """Raise UsageError, with the hint, if `bounds` only make sense swapped."""
    west, south, east, north = bounds
    if isinstance(crs, GeographicCRS):
        quarter = 90 / crs.unit.factor
        if max(abs(south), abs(north)) > quarter and max(abs(west), abs(east)) <= quarter:
            raise _swapped(bounds, "latitude comes second")
    if south >= north or (west >= east and not isinstance(crs, GeographicCRS)):
        raise UsageError(
            f"area {_show(bounds)} holds nothing",
            "south must be less than north and west less than east",
            "did you mean "
            + _show((min(west, east), min(south, north), max(west, east), max(south, north)))
            + "?",
        )


def _around(shape: str, text: str) -> AroundArea:
    numbers, crs = split_crs(text)
    parts = numbers.split(",")
    point = _numbers(",".join(parts[:2]))
    if len(parts) != 3 or point is None:
        raise UsageError(
            f"area {shape}:{text} is not X,Y,REACH",
            "a point and a reach are needed",
            f"write {shape}:X,Y,2km@CRS",
        )
    reach = parse_length(parts[2])
    if reach.amount <= 0:
        raise UsageError(f"reach {reach} is not positive", "it would hold nothing", "write for example 2km")
    if isinstance(crs, GeographicCRS) and reach.kind == "any":
        raise UsageError(
            f"a reach of {reach} has no unit",
            f"{label(crs)} counts in degrees",
            f"write {reach}km, {reach}m or {reach}deg",
        )
    if isinstance(crs, GeographicCRS) and abs(point[1]) > 90 / crs.unit.factor:
        raise UsageError(
            f"area {shape}:{text} looks swapped",
            "x is longitude and comes first",
            f"write {turned(f'{shape}:{text}')}",
        )
    return AroundArea(shape, point[0], point[1], reach, crs)


def _degree(text: str) -> BoxArea:
    found = _DEGREE.fullmatch(text)
    if not found:
        raise UsageError(
            f"{text!r} names no one-degree cell",
            "it is named by its south-west corner",
            "write degree:N46W024",
        )
    south = int(found[2]) * (1 if found[1].upper() == "N" else -1)
    west = int(found[4]) * (1 if found[3].upper() == "E" else -1)
    if not (-90 <= south < 90 and -180 <= west < 180):
        raise UsageError(f"there is no degree cell {text}", "it lies off the globe", "write degree:N46W024")
    return BoxArea((west, south, west + 1, south + 1), by_code(4326))


def _box(text: str, values: list[float], crs: CRS | None) -> BoxArea:
    bounds = (values[0], values[1], values[2], values[3])
    if crs is not None:
        check_bounds(bounds, crs)
    elif bounds[1] >= bounds[3]:
        raise _swapped(bounds, "south must be less than north")
    return BoxArea(bounds, crs)


def _swapped(bounds: Bounds, why: str) -> UsageError:
    west, south, east, north = bounds
    better = south, west, north, east
    if not (better[0] <= better[2] and better[1] <= better[3]):  # it would be refused in its turn
        better = min(west, east), min(south, north), max(west, east), max(south, north)
        why = "west must be less than east and south less than north"
    return UsageError(
        f"area {_show(bounds)} looks swapped", f"x comes first; {why}", f"write {_show(better)}"
    )


def _show(bounds: Bounds) -> str:
    return ",".join(f"{value:.10g}" for value in bounds)


def _numbers(text: str) -> list[float] | None:
    try:
        values = [float(part) for part in text.split(",")]
    except ValueError:
        return None
    return values if all(map(math.isfinite, values)) and len(values) > 1 else None
