"""Geometries that can be worked with: the faulty ones named, mended or left out."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import shapely

from zembrel.errors import InputError
from zembrel.facts import Fact, fact
from zembrel.features.table import FeatureTable, fault

_SHOWN = 5  # faulty features that a message names


class Fault(NamedTuple):
    """What is wrong with a feature: its number from 1, its kind, the reason, and the place of that."""

    number: int
    kind: str
    reason: str
    place: shapely.Point | None

    @property
    def where(self) -> str:
        return f"{self.place.x:.10g},{self.place.y:.10g}" if self.place is not None else "nowhere"

    @property
    def facts(self) -> dict[str, Any]:
        at = [self.place.x, self.place.y] if self.place is not None else None
        return {"feature": self.number, "kind": self.kind, "fault": self.reason, "at": at}


def faults(table: FeatureTable) -> Iterator[Fault]:
    """Each faulty feature, in their order."""
    for number, why in faults_of(table).items():
        geometry = table.geometries[number]
        reason, at, place = why.partition(" at ")
        found = [float(word) for word in place.split()] if at else []
        point = shapely.Point(found[:2]) if len(found) >= 2 else None
        yield Fault(number + 1, geometry.geom_type if geometry is not None else "none", reason.strip(), point)


def faults_of(table: FeatureTable) -> dict[int, str]:
    """What is wrong with each faulty feature, by its number from 0."""
    points, owner = shapely.get_coordinates(table.geometries, return_index=True)
    broken = np.zeros(len(table), bool)
    broken[owner[~np.isfinite(points).all(axis=1)]] = True
    suspect = broken | shapely.is_missing(table.geometries) | shapely.is_empty(table.geometries)
    suspect[~suspect] = ~shapely.is_valid(table.geometries[~suspect])
    return {n: fault(table.geometries[n]) for n in np.flatnonzero(suspect).tolist()}


@dataclass
class Mending:
    """Faulty features of a layer, mended or left out part by part.

    With repair and skip, what can be mended is mended and the rest left out.
    """

    path: Path
    repair: bool = False
    skip: bool = False
    count: int = 0
    better: int = 0
    left_out: int = 0
    faults: dict[int, str] = field(default_factory=dict)  # by number from 0, what stays faulty

    def part(self, table: FeatureTable) -> FeatureTable:
        """The sound features of a part, and the faulty ones that are neither mended nor to be left out."""
        faults, before = faults_of(table), self.count
        self.count += len(table)
        if faults and self.repair:
            table, done = _mended(table, faults)
            self.better += len(done)
            faults = {n: why for n, why in faults.items() if n not in done}
        if not faults:
            return table
        self.faults |= {before + n: why for n, why in faults.items()}
        if not self.skip:
            return table
        self.left_out += len(faults)
        return table.take(np.setdiff1d(np.arange(len(table)), list(faults)))

    def finish(self) -> list[Fact]:
        """What was mended or left out. Raises InputError naming the faulty features that are left in."""
        if self.faults and not self.skip:
            listed = "; ".join(f"feature {n + 1}: {why}" for n, why in list(self.faults.items())[:_SHOWN])
            more = f"; and {len(self.faults) - _SHOWN} more" if len(self.faults) > _SHOWN else ""
            state = "cannot be mended" if self.repair else "are faulty"
            raise InputError(
                f"{len(self.faults)} of {self.count} features in {self.path} {state}",
                listed + more,
                "add --skip-invalid to leave them out"
                if self.repair
                else "add --repair to mend them, or --skip-invalid to leave them out",
            )
        if self.left_out == self.count > 0:
            raise InputError(
                f"{self.path} has no sound feature", next(iter(self.faults.values())), "correct them"
            )
        said = [fact("features_mended", features=self.better)] if self.better else []
        return said + ([fact("features_left_out", features=self.left_out)] if self.left_out else [])


def _mended(table: FeatureTable, faults: Collection[int]) -> tuple[FeatureTable, set[int]]:
    """The table with those faulty features mended that can be, and their numbers."""
    shapes, done = table.geometries.copy(), set()
    for number in faults:
        better = mended(shapes[number])
        if better is not None:
            shapes[number] = better
            done.add(number)
    return replace(table, geometries=shapes), done


def mended(geometry: shapely.Geometry | None) -> shapely.Geometry | None:
    """A sound geometry of the same kind that covers the same ground, or None if there is none.

    Parts that overlap become one; what has no area or length of its own, such as a spike, goes.
    """
    if geometry is None or geometry.is_empty or not np.isfinite(shapely.get_coordinates(geometry)).all():
        return None
    better = shapely.make_valid(geometry, method="structure", keep_collapsed=False)
    parts = shapely.get_parts(better)
    while any(part.geom_type == "GeometryCollection" for part in parts):
        parts = shapely.get_parts(parts)
    of_kind = parts[shapely.get_dimensions(parts) == shapely.get_dimensions(geometry)]
    if not of_kind.size or better.is_empty:
        return None
    return of_kind[0] if len(of_kind) == 1 else shapely.union_all(of_kind)
