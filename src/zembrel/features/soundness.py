"""Geometries that can be worked with: the faulty ones named, mended or left out."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import shapely

from zembrel.errors import InputError
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


def sound(
    path: Path, table: FeatureTable, *, repair: bool = False, skip: bool = False
) -> tuple[FeatureTable, list[str]]:
    """The features that can be worked with, and what was mended or left out.

    With both, what can be mended is mended and the rest left out. Raises InputError naming the faulty
    features that are neither mended nor to be left out.
    """
    faults = faults_of(table)
    if not faults:
        return table, []
    said: list[str] = []
    if repair:
        table, mended = _mended(table, faults)
        said += [f"{_features(len(mended))} mended"] if mended else []
        faults = {n: why for n, why in faults.items() if n not in mended}
    if not faults:
        return table, said
    if skip:
        kept = np.setdiff1d(np.arange(len(table)), list(faults))
        if not kept.size:
            raise InputError(f"{path} has no sound feature", next(iter(faults.values())), "correct them")
        return table.take(kept), [*said, f"{_features(len(faults))} left out"]
    listed = "; ".join(f"feature {n + 1}: {why}" for n, why in list(faults.items())[:_SHOWN])
    more = f"; and {len(faults) - _SHOWN} more" if len(faults) > _SHOWN else ""
    raise InputError(
        f"{len(faults)} of {len(table)} features in {path} {'cannot be mended' if repair else 'are faulty'}",
        listed + more,
        "add --skip-invalid to leave them out"
        if repair
        else "add --repair to mend them, or --skip-invalid to leave them out",
    )


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


def _features(count: int) -> str:
    return f"{count:,} faulty feature{'s' if count != 1 else ''}"
