"""Geometries carried into another CRS, with corners added where straight edges become curves."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import numpy.typing as npt
import shapely

from zembrel.errors import InputError
from zembrel.features.antimeridian import crosses_edge, split_at_edge
from zembrel.geodesy.crs import CRS

Array = npt.NDArray[np.float64]
CLOSE = 0.01  # metres on the ground that an edge may miss its true course
_DEGREE = 111_320.0  # metres of a degree of latitude
_MOST_PIECES = 8192  # of one edge
_PIECES_AROUND = 8  # of an edge that is a quarter of a turn long or longer


def followed(
    geometries: npt.NDArray[np.object_],
    carry: Callable[[Array, Array], tuple[Any, Any]],
    crs: CRS,
    close: float = CLOSE,
) -> npt.NDArray[np.object_]:
    """`geometries` with each vertex carried into `crs`; None stays None, and heights stay as they are.

    close: metres on the ground by which an edge may miss its true course. Geometries that cross the edge of
    the world are split there. Polygons that contain a pole extend to the pole. Raises InputError where the
    target CRS has no coordinates.
    """

    def carried(points: Array) -> Array:
        x, y = carry(points[:, 0], points[:, 1])
        if not np.isfinite([x, y]).all():
            raise _torn()
        return np.column_stack([x, y, *points.T[2:]])

    tolerance = close / (crs.unit.factor if crs.unit.kind == "length" else _DEGREE * crs.unit.factor)
    pieces = _longest_pieces(geometries, carry, tolerance, crs.circuit and crs.circuit.turn)
    bent = np.isfinite(pieces)
    dense = geometries.copy()
    for n in np.flatnonzero(bent & (shapely.get_type_id(dense) >= shapely.GeometryType.MULTIPOINT)):
        dense[n] = _without_empty_parts(dense[n])
    dense[bent] = shapely.segmentize(dense[bent], pieces[bent])
    has_z = shapely.has_z(dense)
    result = dense.copy()
    for flat in (True, False):
        chosen = (has_z != flat) & ~shapely.is_missing(dense)
        if chosen.any():
            result[chosen] = shapely.transform(dense[chosen], carried, include_z=not flat)
    return result if crs.circuit is None else _cut(result, crs)


def _without_empty_parts(geometry: Any) -> Any:
    """Return a geometry without empty parts, which crash `shapely.segmentize` 2.2."""
    parts = getattr(geometry, "geoms", None)
    if parts is None:
        return geometry
    kept = [_without_empty_parts(part) for part in parts if not part.is_empty]
    return (
        geometry
        if len(kept) == len(parts) and geometry.geom_type != "GeometryCollection"
        else type(geometry)(kept)
    )


def _cut(geometries: npt.NDArray[np.object_], crs: CRS) -> npt.NDArray[np.object_]:
    """Split geometries that cross the edge of the world. Raises InputError for a pole without coordinates."""
    assert crs.circuit is not None
    for n in np.flatnonzero(crosses_edge(geometries, crs.circuit.turn)):
        geometries[n] = split_at_edge(geometries[n], crs)
        if geometries[n] is None:
            raise _torn()
    return geometries


def _torn() -> InputError:
    return InputError(
        "a feature reaches where the target CRS has no coordinates",
        "its outline would be torn",
        "choose a CRS for that part of the Earth, or clip it first",
    )


def _longest_pieces(
    geometries: npt.NDArray[np.object_],
    carry: Callable[[Array, Array], tuple[Any, Any]],
    tolerance: float,
    turn: float | None,
) -> Array:
    """How long the pieces of an edge of each geometry may be; infinite where edges may stay whole.

    The middle of an edge misses that of its chord by the square of its length. turn: units of x once around
    the Earth. Edges of a quarter of a turn or more are divided, so that crossings can be recognised.
    """
    points, owner = shapely.get_coordinates(geometries, return_index=True)
    one, other = points[:-1], points[1:]
    inner = owner[:-1] == owner[1:]
    one, other, owner = one[inner], other[inner], owner[:-1][inner]
    ends = [np.asarray(carry(p[:, 0], p[:, 1])) for p in (one, (one + other) / 2, other)]
    around = np.zeros(len(one), bool)
    if turn is not None:
        around = ~(np.abs(ends[2][0] - ends[0][0]) < turn / 4)
        for end in ends[1:]:
            end[0] -= turn * np.round((end[0] - ends[0][0]) / turn)
    miss = np.hypot(*(ends[1] - (ends[0] + ends[2]) / 2))
    length = np.hypot(*(other - one).T)
    sound = np.isfinite(miss) & (length > 0)
    bend, longest = np.zeros(len(geometries)), np.zeros(len(geometries))
    np.maximum.at(bend, owner[sound], 2 * miss[sound] / length[sound] ** 2)  # the middle tells the mean
    np.maximum.at(longest, owner[sound], length[sound])
    with np.errstate(divide="ignore", invalid="ignore"):
        pieces = np.maximum(np.sqrt(tolerance / bend), longest / _MOST_PIECES)
    pieces = np.where((pieces < longest) & (pieces > 0), pieces, np.inf)
    np.minimum.at(pieces, owner[around], length[around] / _PIECES_AROUND)
    return pieces
