"""Geometries that can be worked with: the faulty ones named, mended or left out."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import shapely

from zembrel.errors import InputError
from zembrel.features.table import FeatureTable, fault

_SHOWN = 5  # faulty features that a message names


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

    Raises InputError naming the faulty features, unless they are to be mended or left out.
    """
    faults = faults_of(table)
    if not faults:
        return table, []
    if skip:
        kept = np.setdiff1d(np.arange(len(table)), list(faults))
        if not kept.size:
            raise InputError(f"{path} has no sound feature", next(iter(faults.values())), "correct them")
        return table.take(kept), [f"{_features(len(faults))} left out"]
    hopeless = {n: why for n, why in faults.items() if "coordinate is" in why or "it " in why[:3]}
    if repair and not hopeless:
        numbers = np.array(list(faults))
        shapes = table.geometries.copy()
        shapes[numbers] = shapely.make_valid(shapes[numbers])
        return replace(table, geometries=shapes), [f"{_features(len(faults))} mended"]
    shown = hopeless if repair else faults
    listed = "; ".join(f"feature {n + 1}: {why}" for n, why in list(shown.items())[:_SHOWN])
    more = f"; and {len(shown) - _SHOWN} more" if len(shown) > _SHOWN else ""
    raise InputError(
        f"{len(shown)} of {len(table)} features in {path} {'cannot be mended' if repair else 'are faulty'}",
        listed + more,
        "add --skip-invalid to leave them out"
        if repair
        else "add --repair to mend them, or --skip-invalid to leave them out",
    )


def _features(count: int) -> str:
    return f"{count:,} faulty feature{'s' if count != 1 else ''}"
