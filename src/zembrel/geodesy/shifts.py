"""From one datum to another: the registry's transformations, chosen by area of use and accuracy."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from zembrel.errors import InputError
from zembrel.geodesy import helmert
from zembrel.geodesy.crs import Datum
from zembrel.geodesy.ellipsoid import Array
from zembrel.geodesy.registry import datum as datum_of
from zembrel.geodesy.registryfile import rows
from zembrel.geodesy.units import value_in_base

Bounds = tuple[float, float, float, float]
HUB = 6326  # WGS 84, by way of which two datums meet that have no transformation of their own
LONGITUDE_ROTATION = 9601
_GUESS = 999.0  # metres, of a transformation whose accuracy nobody states
_WORLD: Bounds = (-180.0, -90.0, 180.0, 90.0)


@dataclass(frozen=True)
class Transformation:
    """One registered step between the datums `source` and `target`; `backward` runs it in reverse.

    accuracy: metres as stated; area: west, south, east, north in degrees; grid: whether a file is needed.
    """

    code: int
    name: str
    method: int
    source: int
    target: int
    accuracy: float
    area: Bounds
    grid: bool
    backward: bool = False

    @property
    def label(self) -> str:
        return f"{'inverse of ' if self.backward else ''}EPSG:{self.code} {self.name}"

    @property
    def reversed(self) -> Transformation:
        return replace(self, source=self.target, target=self.source, backward=not self.backward)

    def __call__(self, lon: Array, lat: Array, height: Array) -> tuple[Array, Array, Array]:
        """Longitude from Greenwich, latitude and ellipsoidal height on the target datum."""
        values = _values(self.code)
        if self.method in helmert.OFFSETS:
            by, sign = helmert.offset(values), -1.0 if self.backward else 1.0
            meridians = [np.radians(datum_of(code).prime_meridian) for code in (self.source, self.target)]
            if self.method == LONGITUDE_ROTATION:  # a longitude rotation only renames the meridian
                return lon, lat, height
            return lon + sign * by.lon + meridians[1] - meridians[0], lat + sign * by.lat, height
        move = helmert.helmert(self.method, values)
        start, end = datum_of(self.source).ellipsoid, datum_of(self.target).ellipsoid
        xyz = np.stack([np.ravel(part) for part in helmert.geocentric(start, lon, lat, height)])
        moved = move.inverse(xyz) if self.backward else move.forward(xyz)
        x, y, z = (part.reshape(np.shape(lon)) for part in moved)
        return helmert.geographic(end, x, y, z)


@lru_cache(maxsize=512)
def _values(code: int) -> dict[int, float]:
    found = rows("SELECT parameter, value, unit FROM value WHERE operation = ? AND file IS NULL", code)
    return {v["parameter"]: value_in_base(v["value"], v["unit"]) for v in found if v["value"] is not None}


@lru_cache(maxsize=1)
def _datum_of_crs() -> dict[int, int]:
    """The datum of every geographic and geocentric CRS, by code."""
    found = rows("SELECT code, datum, base FROM crs WHERE kind LIKE 'geo%'")
    own = {r["code"]: r["datum"] for r in found}
    return {r["code"]: int(r["datum"] or own[r["base"]]) for r in found}


@lru_cache(maxsize=256)
def from_datum(code: int) -> tuple[Transformation, ...]:
    """All single transformations that begin or end at a datum, turned so that they begin there."""
    datums = _datum_of_crs()
    mine = [crs for crs, datum in datums.items() if datum == code]
    marks = ",".join("?" * len(mine))
    found = rows(
        f"""SELECT o.*, e.west, e.south, e.east, e.north,
        EXISTS (SELECT 1 FROM value v WHERE v.operation = o.code AND v.file IS NOT NULL) AS grid
        FROM operation o LEFT JOIN extent e ON e.code = o.extent
        WHERE o.kind = 'transformation' AND NOT o.deprecated
        AND (o.source IN ({marks}) OR o.target IN ({marks}))
        ORDER BY o.code""",
        *mine, *mine,
    )  # fmt: skip
    made = []
    for r in found:
        source, target = datums.get(r["source"]), datums.get(r["target"])
        if source is None or target is None or source == target:
            continue
        area = _WORLD if r["west"] is None else (r["west"], r["south"], r["east"], r["north"])
        accuracy = _GUESS if r["accuracy"] is None else float(r["accuracy"])
        step = Transformation(
            r["code"], r["name"], r["method"], source, target, accuracy, area, bool(r["grid"])
        )
        made.append(step if source == code else step.reversed)
    return tuple(made)


@dataclass(frozen=True)
class Shift:
    """How one datum goes over into another, in steps; better: a grid-based one of higher accuracy, if any.

    No step: the registry knows no way, and coordinates are taken over as they are.
    """

    source: Datum
    target: Datum
    steps: tuple[Transformation, ...]
    better: Transformation | None = None

    @property
    def accuracy(self) -> float:
        return sum(step.accuracy for step in self.steps)

    def __call__(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        height = np.zeros(np.shape(lon))
        for step in self.steps:
            lon, lat, height = step(lon, lat, height)
        return lon, lat

    @property
    def inverse(self) -> Shift:
        return Shift(self.target, self.source, _turned(self.steps), self.better)

    def checked(self, strict: bool) -> Shift:
        """Itself. Raises InputError, if `strict`, when the registry knows no way."""
        if strict and not self.steps:
            raise InputError(
                f"no shift is known from {self.source.name} to {self.target.name}",
                "--strict-crs does not let coordinates be taken over as they are",
                "leave it out, or say with --from-crs what the coordinates are in",
            )
        return self

    def describe(self) -> str:
        """One phrase for the receipt."""
        if not self.steps:
            return (
                f"no shift known from {self.source.name} to {self.target.name}: coordinates taken as they are"
            )
        names = " and ".join(step.label for step in self.steps)
        accuracy = f"{self.accuracy:g} m" if self.accuracy < _GUESS else "accuracy not stated"
        hint = (
            f" (EPSG:{self.better.code}, {self.better.accuracy:g} m, would need a grid file)"
            if self.better
            else ""
        )
        return f"datum shift {names}, {accuracy}{hint}"


@lru_cache(maxsize=256)
def shift(source: Datum, target: Datum, place: tuple[float, float] | None = None) -> Shift | None:
    """The best way from `source` to `target` at a place (longitude and latitude in degrees).

    None if they are one datum; an ensemble and its members count as one, to the ensemble's accuracy.
    Ways with the place in their area of use come first, then the more accurate, then the newer ones.
    """
    if source == target:
        return None
    if source.code is None or target.code is None:
        return Shift(source, target, ())
    if source.code == target.code or _one_ensemble(source.code, target.code):
        return None
    ways = _ways(source.code, target.code)
    usable = [way for way in ways if all(_computable(step) for step in way)]
    better = [way[0] for way in ways if len(way) == 1 and way[0].grid and holds(way[0].area, place)]
    if not usable:
        return Shift(source, target, (), min(better, key=lambda step: step.accuracy, default=None))
    best = min(usable, key=lambda way: _rank(way, place))
    total = sum(step.accuracy for step in best)
    hint = min((b for b in better if b.accuracy < total), key=lambda step: step.accuracy, default=None)
    return Shift(source, target, best, hint)


def ways(source: Datum, target: Datum) -> list[tuple[Transformation, ...]]:
    """All ways that the registry knows from one datum to another, the more accurate first."""
    if source.code is None or target.code is None or source.code == target.code:
        return []
    found = _ways(source.code, target.code)
    return sorted(
        found,
        key=lambda way: (
            any(s.method not in helmert.METHODS and not s.grid for s in way),
            sum(s.accuracy for s in way),
        ),
    )


def _ways(source: int, target: int) -> list[tuple[Transformation, ...]]:
    """Single steps from `source` to `target`; if none can be computed, two by way of the hub, too."""
    direct = list(dict.fromkeys([*_reach(source, target), *map(_turned, _reach(target, source))]))
    if any(all(map(_computable, way)) for way in direct) or HUB in (source, target):
        return direct
    onwards = [_turned(way) for way in _reach(target, HUB)]
    return [*direct, *((*one, *other) for one in _reach(source, HUB) for other in onwards)]


def _reach(source: int, goal: int) -> list[tuple[Transformation, ...]]:
    """Ways of one step, after a change of the prime meridian if need be."""
    ways: list[tuple[Transformation, ...]] = [(s,) for s in from_datum(source) if s.target == goal]
    for turn in from_datum(source):
        if turn.method == LONGITUDE_ROTATION and turn.target != goal:
            ways += [(turn, step) for step in from_datum(turn.target) if step.target == goal]
    return ways


def _turned(way: tuple[Transformation, ...]) -> tuple[Transformation, ...]:
    return tuple(step.reversed for step in reversed(way))


def _one_ensemble(one: int, other: int) -> bool:
    query = "SELECT 1 FROM member WHERE (ensemble = ? AND datum = ?) OR (ensemble = ? AND datum = ?)"
    return bool(rows(query, one, other, other, one))


def _computable(step: Transformation) -> bool:
    return step.method in helmert.METHODS and not step.grid


def _rank(way: tuple[Transformation, ...], place: tuple[float, float] | None) -> tuple[float, ...]:
    inside = all(holds(step.area, place) for step in way)
    accuracy, size = sum(s.accuracy for s in way), sum(_size(s.area) for s in way)
    return (0.0, accuracy, size, -way[0].code) if inside else (1.0, -size, accuracy, -way[0].code)


def holds(area: Bounds, place: tuple[float, float] | None) -> bool:
    """Whether a place, degrees, lies in an area; no place lies in the world alone."""
    if place is None:
        return area == _WORLD
    (west, south, east, north), (lon, lat) = area, place
    lon = (lon + 180) % 360 - 180
    across = west <= lon <= east if west <= east else lon >= west or lon <= east
    return across and south <= lat <= north


def _size(area: Bounds) -> float:
    west, south, east, north = area
    return ((east - west) % 360.0001) * (north - south)
