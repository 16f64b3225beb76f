"""Features counted and summed up in zones."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt
import shapely

from zembrel.errors import InputError
from zembrel.features.ground import ground_areas, ground_lengths
from zembrel.features.reached import Discs
from zembrel.features.stats import Stat, statistic
from zembrel.features.table import FeatureTable, Geometries
from zembrel.geodesy.crs import CRS

Array = npt.NDArray[np.float64]
_PIECES = 64  # of the way across a zone, for areas on the ground


def tallied(
    table: FeatureTable, zones: Geometries, stats: Sequence[Stat], discs: Discs | None = None
) -> dict[Stat, Array]:
    """Each statistic of the features that meet each zone; both are in the CRS of `table`.

    discs: those zones that are all places within a distance of a point, for points to be found exactly.
    length: metres of lines inside; share: of the zone's ground that polygons cover, once where several do.
    """
    zone, feature = shapely.STRtree(table.geometries).query(zones, predicate="intersects")
    if discs is not None:
        zone, feature = discs.exactly(zone, feature, table.geometries)
    order = np.lexsort((feature, zone))
    zone, feature = zone[order], feature[order]
    found: dict[Stat, Array] = {}
    for stat in stats:
        if stat.name == "count":
            found[stat] = np.bincount(zone, minlength=len(zones)).astype(np.float64)
        elif stat.name == "length":
            found[stat] = _lengths(table, zones, zone, feature)
        elif stat.name == "share":
            found[stat] = _shares(table, zones, zone, feature, table.crs)
        else:
            values = table.numbers(_field(stat))[feature]
            parts = np.split(values, np.searchsorted(zone, np.arange(1, len(zones))))
            found[stat] = np.array([statistic(stat, part) for part in parts])
    return found


def _field(stat: Stat) -> str:
    if stat.field is None:
        raise InputError(
            f"--stat {stat.name} of what?", "features have several fields", f"write --stat {stat.name}:FIELD"
        )
    return stat.field


def _lengths(
    table: FeatureTable, zones: Geometries, zone: npt.NDArray[np.int64], feature: npt.NDArray[np.int64]
) -> Array:
    lines = shapely.get_dimensions(table.geometries[feature]) == 1
    zone, feature = zone[lines], feature[lines]
    inside = shapely.intersection(table.geometries[feature], zones[zone])
    return np.asarray(np.bincount(zone, ground_lengths(inside, table.crs), len(zones)), np.float64)


def _shares(
    table: FeatureTable,
    zones: Geometries,
    zone: npt.NDArray[np.int64],
    feature: npt.NDArray[np.int64],
    crs: CRS | None,
) -> Array:
    areas = shapely.get_dimensions(table.geometries[feature]) == 2
    zone, feature = zone[areas], feature[areas]
    inside = shapely.intersection(table.geometries[feature], zones[zone])
    parts = np.split(inside, np.searchsorted(zone, np.arange(1, len(zones))))
    covered = np.array([shapely.union_all(part) for part in parts], object)
    longest = float(np.max(np.ptp(shapely.bounds(zones).reshape(-1, 2, 2), axis=1), initial=1.0)) / _PIECES
    whole = ground_areas(zones, crs, longest)
    return np.asarray(ground_areas(covered, crs, longest) / np.where(whole > 0, whole, 1.0))
