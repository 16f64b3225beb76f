"""From one datum to another: what is chosen at a place, and what is said about it."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from zembrel.errors import InputError
from zembrel.geodesy.aid import Aid
from zembrel.geodesy.crs import Datum
from zembrel.geodesy.ellipsoid import Array
from zembrel.geodesy.registry import datum as registered_datum
from zembrel.geodesy.registryfile import rows
from zembrel.geodesy.transformation import (
    NTV2,
    UNSTATED,
    Concatenated,
    GridStep,
    Step,
    Transformation,
    grid_step,
)
from zembrel.geodesy.ways import Place, Way, best, ways


@dataclass(frozen=True)
class Shift:
    """How one datum goes over into another; better: a grid-based way of higher accuracy, if any.

    No steps: the registry knows no way, and coordinates are taken over as they are. epoch: of the
    coordinates, for steps that change with time.
    """

    source: Datum
    target: Datum
    way: Way
    better: Transformation | Concatenated | None = None
    epoch: float | None = None

    @property
    def steps(self) -> tuple[Step, ...]:
        return self.way.steps

    @property
    def uses_grid(self) -> bool:
        """Whether a file of the user's is among the steps."""
        return any(isinstance(step, GridStep) for step in self.steps)

    def __call__(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        """Longitudes from Greenwich and latitudes, radians, on the ellipsoid."""
        lon, lat, _ = self.with_height(lon, lat, np.zeros(np.shape(lon)))
        return lon, lat

    def with_height(self, lon: Array, lat: Array, height: Array) -> tuple[Array, Array, Array]:
        """The same with heights above the ellipsoid, metres."""
        for step in self.steps:
            lon, lat, height = step(lon, lat, height, self.epoch)
        return lon, lat, height

    @property
    def inverse(self) -> Shift:
        return Shift(self.target, self.source, self.way.reversed, self.better, self.epoch)

    def checked(self, strict: bool) -> Shift:
        """Itself. Raises InputError, if `strict`, when the registry knows no way."""
        if strict and not self.steps:
            raise InputError(
                f"no shift is known from {self.source.name} to {self.target.name}",
                "--strict-crs does not let coordinates be taken over as they are",
                "leave it out, give a --shift-grid, or say with --from-crs what the coordinates are in",
            )
        return self

    def describe(self) -> str:
        """One phrase for the receipt."""
        if not self.steps:
            return (
                f"no shift known from {self.source.name} to {self.target.name}: coordinates taken as they are"
            )
        accuracy = f"{self.way.accuracy:g} m" if self.way.accuracy < UNSTATED else "accuracy not stated"
        hint = ""
        if self.better is not None:
            file = "its file as --shift-grid" if self.better.method == NTV2 else "a grid file of another kind"
            hint = f" (EPSG:{self.better.code}, {self.better.accuracy:g} m, would need {file})"
        own = next((step.epoch for step in self.steps if step.epoch is not None), None)
        when = "" if own is None else f" at epoch {self.epoch or own:g}" + ("" if self.epoch else ", its own")
        return f"datum shift {self.way.label}{when}, {accuracy}{hint}"


def shift(source: Datum, target: Datum, place: Place = None, aid: Aid | None = None) -> Shift | None:
    """The best way from `source` to `target` at a place (longitude and latitude in degrees).

    None if they are one datum; an ensemble and its members count as one, to the ensemble's accuracy.
    A shift grid in `aid` comes first where it leads there, alone or with registered steps before or after.
    """
    if aid is None:
        return _registered(source, target, place)
    found = _by_grid(source, target, place, aid) or _registered(source, target, place)
    return replace(found, epoch=aid.epoch) if found else None


@lru_cache(maxsize=256)
def _registered(source: Datum, target: Datum, place: Place) -> Shift | None:
    if source == target:
        return None
    if source.code is None or target.code is None:
        return Shift(source, target, Way())
    if source.code == target.code or _one_ensemble(source.code, target.code):
        return None
    found = ways(source.code, target.code)
    chosen = best(found, place) or Way()
    grids = [way for way in found if len(way.steps) == 1 and way.needs_grid and way.holds(place)]
    most = chosen.accuracy if chosen.steps else np.inf
    better = [way.registered[0] for way in grids if way.accuracy < most]
    return Shift(source, target, chosen, min(better, key=lambda step: step.accuracy, default=None))


def _by_grid(source: Datum, target: Datum, place: Place, aid: Aid) -> Shift | None:
    """The way by the user's grid, if it leads from `source` to `target`, the shorter the better.

    Registered steps may lead to the grid and on from it, unless they are less accurate than the registered
    way without it.
    """
    plain = _registered(source, target, place)
    if aid.shift_grid is None or plain is None:
        return None
    step = grid_step(aid.shift_grid)
    found = []
    for turned in (step, step.reversed):
        if not turned.source and not turned.target and turned.backward:
            continue  # nobody knows its ends: it is taken to lead from source to target
        before, after = _up_to(source, turned.source, place), _from(turned.target, target, place)
        if before is None or after is None:
            continue
        more = before + after
        if not more.steps or not plain.steps or more.accuracy < plain.way.accuracy:
            found.append(before + Way((turned,)) + after)
    way = min(found, key=lambda way: len(way.steps), default=None)
    return Shift(source, target, way) if way else None


def _up_to(source: Datum, ends: frozenset[int], place: Place) -> Way | None:
    """What leads from `source` to one of the datums `ends`: no step if it is one; None if nothing does."""
    if not ends or source.code in ends:
        return Way()
    shifts = [_registered(source, registered_datum(code), place) for code in sorted(ends)]
    if any(s is None for s in shifts):
        return Way()
    return min((s.way for s in shifts if s and s.steps), key=lambda way: way.accuracy, default=None)


def _from(ends: frozenset[int], target: Datum, place: Place) -> Way | None:
    found = _up_to(target, ends, place)
    return found.reversed if found else None


def _one_ensemble(one: int, other: int) -> bool:
    query = "SELECT 1 FROM member WHERE (ensemble = ? AND datum = ?) OR (ensemble = ? AND datum = ?)"
    return bool(rows(query, one, other, other, one))
