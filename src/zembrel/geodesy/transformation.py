"""Single changes of the datum: the registry's, and those by a grid file that the user gives."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Protocol

import numpy as np

from zembrel.geodesy import helmert
from zembrel.geodesy.ellipsoid import Array
from zembrel.geodesy.registry import datum as datum_of
from zembrel.geodesy.registryfile import rows
from zembrel.geodesy.shiftgrid import ShiftGrid
from zembrel.geodesy.text.names import plain
from zembrel.geodesy.units import value_in_base

Bounds = tuple[float, float, float, float]
LONGITUDE_ROTATION, NTV2 = 9601, 9615
UNSTATED = 999.0  # metres, of a transformation whose accuracy nobody states
WORLD: Bounds = (-180.0, -90.0, 180.0, 90.0)
_SIDES = ("west", "south", "east", "north")


class Step(Protocol):
    """One change of the datum. accuracy: metres; area: west, south, east, north in degrees."""

    @property
    def label(self) -> str: ...
    @property
    def accuracy(self) -> float: ...
    @property
    def area(self) -> Bounds: ...
    @property
    def reversed(self) -> Step: ...
    @property
    def epoch(self) -> float | None:
        """The epoch whose values count unless another is asked for; None if time does not matter."""
        ...

    def __call__(
        self, lon: Array, lat: Array, height: Array, epoch: float | None = None
    ) -> tuple[Array, Array, Array]:
        """Longitude from Greenwich, latitude and ellipsoidal height on the datum beyond."""
        ...


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

    @property
    def computable(self) -> bool:
        """Whether the registry holds all that it takes."""
        return self.method in helmert.METHODS and not self.grid

    @property
    def epoch(self) -> float | None:
        return helmert.reference_epoch(_values(self.code))

    def __call__(
        self, lon: Array, lat: Array, height: Array, epoch: float | None = None
    ) -> tuple[Array, Array, Array]:
        """As `Step` says."""
        values = _values(self.code)
        if self.method in helmert.OFFSETS:
            by, sign = helmert.offset(values), -1.0 if self.backward else 1.0
            meridians = [np.radians(datum_of(code).prime_meridian) for code in (self.source, self.target)]
            if self.method == LONGITUDE_ROTATION:  # a longitude rotation only renames the meridian
                return lon, lat, height
            return lon + sign * by.lon + meridians[1] - meridians[0], lat + sign * by.lat, height
        move = helmert.helmert(self.method, values, epoch)
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
def datum_of_crs() -> dict[int, int]:
    """The datum of every geographic and geocentric CRS, by code."""
    found = rows("SELECT code, datum, base FROM crs WHERE kind LIKE 'geo%'")
    own = {r["code"]: r["datum"] for r in found}
    return {r["code"]: int(r["datum"] or own[r["base"]]) for r in found}


_SELECT = """SELECT o.*, e.west, e.south, e.east, e.north,
    EXISTS (SELECT 1 FROM value v WHERE v.operation = o.code AND v.file IS NOT NULL) AS grid
    FROM operation o LEFT JOIN extent e ON e.code = o.extent """


def selected(where: str, *arguments: object) -> list[Transformation]:
    """The registered transformations that fit a condition and change the datum, in their own direction."""
    datums, made = datum_of_crs(), []
    for r in rows(_SELECT + f"WHERE o.kind = 'transformation' AND {where} ORDER BY o.code", *arguments):
        source, target = datums.get(r["source"]), datums.get(r["target"])
        if source is None or target is None or source == target:
            continue
        ends = source, target
        made.append(Transformation(r["code"], r["name"], r["method"], *ends, *stated(r), bool(r["grid"])))
    return made


def stated(found: sqlite3.Row) -> tuple[float, Bounds]:
    """Accuracy and area of use of an operation's row."""
    area = WORLD if found["west"] is None else tuple(found[side] for side in _SIDES)
    return UNSTATED if found["accuracy"] is None else float(found["accuracy"]), area


@lru_cache(maxsize=256)
def from_datum(code: int) -> tuple[Transformation, ...]:
    """All single transformations that begin or end at a datum, turned so that they begin there."""
    mine = [crs for crs, datum in datum_of_crs().items() if datum == code]
    marks = ",".join("?" * len(mine))
    ends = f"NOT o.deprecated AND (o.source IN ({marks}) OR o.target IN ({marks}))"
    return tuple(s if s.source == code else s.reversed for s in selected(ends, *mine, *mine))


@dataclass(frozen=True)
class Concatenated:
    """A registered chain of steps, with an accuracy and an area of use of its own."""

    code: int
    name: str
    members: tuple[Transformation, ...]
    accuracy: float
    area: Bounds
    backward: bool = False

    @property
    def label(self) -> str:
        return f"{'inverse of ' if self.backward else ''}EPSG:{self.code} {self.name}"

    @property
    def reversed(self) -> Concatenated:
        turned = tuple(step.reversed for step in reversed(self.members))
        return replace(self, members=turned, backward=not self.backward)

    @property
    def method(self) -> int | None:
        """That of its only step; chains of several have none."""
        return self.members[0].method if len(self.members) == 1 else None

    @property
    def computable(self) -> bool:
        """Whether all of its steps are."""
        return all(step.computable for step in self.members)

    @property
    def grid(self) -> bool:
        return any(step.grid for step in self.members)

    @property
    def epoch(self) -> float | None:
        return next((step.epoch for step in self.members if step.epoch is not None), None)

    def __call__(
        self, lon: Array, lat: Array, height: Array, epoch: float | None = None
    ) -> tuple[Array, Array, Array]:
        """As `Step` says."""
        for step in self.members:
            lon, lat, height = step(lon, lat, height, epoch)
        return lon, lat, height


@dataclass(frozen=True)
class GridStep:
    """A shift grid that the user gives. source, target: datums that it may be between; none if it names
    a system that the registry does not know; registered: the transformation it is the file of."""

    grid: ShiftGrid
    source: frozenset[int]
    target: frozenset[int]
    registered: Transformation | None = None
    backward: bool = False

    @property
    def label(self) -> str:
        known = self.registered
        name = f"EPSG:{known.code} {known.name}" if known else f"{self.grid.source} to {self.grid.target}"
        return f"{'inverse of ' if self.backward else ''}{name} by {self.grid.name}"

    @property
    def accuracy(self) -> float:
        return self.registered.accuracy if self.registered else UNSTATED

    @property
    def area(self) -> Bounds:
        return self.registered.area if self.registered else WORLD

    @property
    def epoch(self) -> float | None:
        return None

    @property
    def reversed(self) -> GridStep:
        return replace(self, source=self.target, target=self.source, backward=not self.backward)

    def __call__(
        self, lon: Array, lat: Array, height: Array, epoch: float | None = None
    ) -> tuple[Array, Array, Array]:
        """As `Step` says; NaN off the grid."""
        return *(self.grid.inverse if self.backward else self.grid.forward)(lon, lat), height


def grid_step(grid: ShiftGrid) -> GridStep:
    """What the registry knows of a grid, by the name of its file or of the systems that it is between."""
    named = selected("o.code IN (SELECT operation FROM value WHERE file = ? COLLATE NOCASE)", grid.name)
    if named:
        sources, targets = (frozenset(getattr(k, end) for k in named) for end in ("source", "target"))
        return GridStep(grid, sources, targets, named[0])
    return GridStep(grid, _datums_named(grid.source), _datums_named(grid.target))


def _datums_named(system: str) -> frozenset[int]:
    """The datums that a file may mean by eight characters: those of CRSs of that name."""
    wanted = plain(system)
    found = rows("SELECT name, code FROM crs WHERE kind = 'geographic 2D'")
    return frozenset(datum_of_crs()[r["code"]] for r in found if wanted and plain(r["name"]) == wanted)
