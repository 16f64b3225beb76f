"""Shapes that cross the edge of the world or contain a pole: split at the edge, closed along the pole.

Source: RFC 7946, "The GeoJSON Format", section 3.1.9 (antimeridian cutting).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from functools import reduce
from typing import Any

import numpy as np
import numpy.typing as npt
import shapely
from shapely.affinity import translate

from zembrel.geodesy.crs import CRS, Circuit, GeographicCRS

Array = npt.NDArray[np.float64]
_SLACK = 1e-9  # of a turn: rounding by which a coordinate may miss the edge


def crosses_edge(geometries: npt.NDArray[np.object_], turn: float) -> npt.NDArray[np.bool_]:
    """Return True, (n,), for geometries with neighbouring corners half a turn or more apart."""
    found = np.zeros(len(geometries), bool)
    parts, part_of = shapely.get_parts(geometries, return_index=True)
    polygons = shapely.get_type_id(parts) == shapely.GeometryType.POLYGON
    rings, ring_of = shapely.get_rings(parts[polygons], return_index=True)
    lines = np.concatenate([parts[~polygons], rings])
    owner = np.concatenate([part_of[~polygons], part_of[polygons][ring_of]])
    points, line = shapely.get_coordinates(lines, return_index=True)
    far = (np.abs(np.diff(points[:, 0])) >= turn / 2) & (line[1:] == line[:-1])
    found[owner[line[1:][far]]] = True
    return found


def split_at_edge(geometry: Any, crs: CRS) -> Any:
    """Return a geometry in `crs` as parts that do not cross the edge of the world.

    Neighbouring corners must be less than half a turn apart on the Earth. Returns None for a geometry that
    contains a pole, if `crs` has no coordinates for the pole.
    """
    assert crs.circuit is not None
    kind = geometry.geom_type
    if geometry.is_empty or kind in ("Point", "MultiPoint"):
        return geometry
    if kind.startswith("Multi") or kind == "GeometryCollection":
        parts = [split_at_edge(part, crs) for part in geometry.geoms]
        if any(part is None for part in parts):
            return None
        return shapely.GeometryCollection(parts) if kind == "GeometryCollection" else _merged(parts)
    if kind != "Polygon":
        return fold_to_world(shapely.LineString(_unrolled(geometry.coords, crs.circuit)), crs)
    rings = [_enclosed(ring, crs) for ring in (geometry.exterior, *geometry.interiors)]
    if any(ring is None for ring in rings):
        return None
    return shapely.difference(rings[0], shapely.union_all(rings[1:])) if rings[1:] else rings[0]


def _unrolled(corners: Sequence[Any], circuit: Circuit) -> Array:
    """Return corners whose x continues past the edge of the world."""
    points = np.array(corners, np.float64)
    points[:, 0] = np.unwrap(points[:, 0], period=circuit.turn)
    return points


def _enclosed(ring: Any, crs: CRS) -> Any:
    """Return the area inside a ring. A ring once around the Earth is closed along the nearer pole."""
    assert crs.circuit is not None
    points = _unrolled(ring.coords, crs.circuit)
    if abs(points[-1, 0] - points[0, 0]) > crs.circuit.turn / 2:
        if not isinstance(crs, GeographicCRS):
            return None
        pole, south, north = 90 / crs.unit.factor, points[:, 1].min(), points[:, 1].max()
        ends = points[[-1, 0]].copy()
        ends[:, 1] = pole if pole - north < pole + south else -pole
        points = np.concatenate([points, ends, points[:1]])
    return fold_to_world(shapely.make_valid(shapely.Polygon(points)), crs)


def fold_to_world(shape: Any, crs: CRS) -> Any:
    """Return a shape that continues past the edge as parts within the world, moved by whole turns."""
    assert crs.circuit is not None
    if shape.is_empty:
        return shape
    middle, turn = crs.circuit
    west = middle - turn / 2
    low, bottom, high, top = shape.bounds
    parts = []
    for number in range(math.floor((low - west) / turn + _SLACK), math.ceil((high - west) / turn - _SLACK)):
        begin = west + number * turn
        part = shapely.intersection(shape, shapely.box(begin, bottom - 1, begin + turn, top + 1))
        parts.append(translate(part, -number * turn))
    if shapely.get_dimensions(shape) == 2:
        # of a ring around a pole, what overlaps after a turn is outside: the even-odd rule
        parts = [reduce(shapely.symmetric_difference, [_merged([part]) for part in parts])]
    return _merged(parts)


def _merged(shapes: Sequence[Any]) -> Any:
    """Return the parts of the highest dimension as one shape, without the slivers that splitting leaves."""
    parts = shapely.get_parts(shapely.get_parts(np.array(shapes, object)))
    parts = parts[~shapely.is_empty(parts)]
    if not parts.size:
        return shapely.GeometryCollection()
    dimensions = shapely.get_dimensions(parts)
    parts = parts[dimensions == dimensions.max()]
    if dimensions.max() == 2:
        return shapely.union_all(parts)
    return parts[0] if len(parts) == 1 else shapely.multilinestrings(parts)


def join_across_edge(shape: Any, crs: CRS | None) -> Any:
    """Return an area whose parts are moved by whole turns so that its extent is smallest."""
    parts = shapely.get_parts(shape)
    if crs is None or crs.circuit is None or not parts.size:
        return shape
    turn = crs.circuit.turn
    west, _, east, _ = shapely.bounds(parts).T
    order = np.argsort(west)
    reach = np.maximum.accumulate(east[order])
    gaps = np.append(west[order][1:], west.min() + turn) - reach
    widest = int(np.argmax(gaps))
    if widest == len(parts) - 1:
        return shape
    moved = np.zeros(len(parts))
    moved[order[: widest + 1]] = turn  # parts west of the widest gap follow the others
    return shapely.union_all(
        [translate(part, away) for part, away in zip(parts, moved.tolist(), strict=True)]
    )
