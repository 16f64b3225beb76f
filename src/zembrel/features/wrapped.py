"""Shapes on a world that goes on past its edges: followed across an edge, closed over a pole, and cut.

Source: RFC 7946, "The GeoJSON Format", section 3.1.9 (antimeridian cutting).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt
import shapely
from shapely.affinity import translate

from zembrel.geodesy.crs import CRS, GeographicCRS

Array = npt.NDArray[np.float64]
_SLACK = 1e-9  # of a turn: so far past an edge is on it


def crossing(geometries: npt.NDArray[np.object_], turn: float) -> npt.NDArray[np.bool_]:
    """Which geometries have neighbouring corners that are half a turn or more apart, (n,)."""
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


def wrapped(geometry: Any, crs: CRS) -> Any:
    """A shape in `crs` in parts between the edges; its corners are less than half a turn apart on the Earth.

    None where it holds a pole, and the CRS has no place for that.
    """
    assert crs.circuit is not None
    kind = geometry.geom_type
    if kind.startswith("Multi") or kind == "GeometryCollection":
        parts = [wrapped(part, crs) for part in geometry.geoms]
        return None if any(part is None for part in parts) else _gathered(parts)
    if kind == "Point":
        return geometry
    if kind != "Polygon":
        return _gathered([between_edges(shapely.LineString(_unrolled(geometry.coords, crs)), crs)])
    rings = [_area(ring, crs) for ring in (geometry.exterior, *geometry.interiors)]
    if any(ring is None for ring in rings):
        return None
    return _gathered([shapely.difference(rings[0], shapely.union_all(rings[1:])) if rings[1:] else rings[0]])


def _unrolled(corners: Sequence[Any], crs: CRS) -> Array:
    """Corners whose x goes on past the edges of the world."""
    assert crs.circuit is not None
    points = np.array(corners, np.float64)
    points[:, 0] = np.unwrap(points[:, 0], period=crs.circuit.turn)
    return points


def _area(ring: Any, crs: CRS) -> Any:
    """What a ring encloses, between the edges: one that goes once around the Earth is closed along a pole."""
    assert crs.circuit is not None
    points = _unrolled(ring.coords, crs)
    if abs(points[-1, 0] - points[0, 0]) > crs.circuit.turn / 2:
        if not isinstance(crs, GeographicCRS):
            return None
        pole, south, north = 90 / crs.unit.factor, points[:, 1].min(), points[:, 1].max()
        ends = points[[-1, 0]].copy()
        ends[:, 1] = pole if pole - north < pole + south else -pole
        points = np.concatenate([points, ends, points[:1]])
    return between_edges(shapely.make_valid(shapely.Polygon(points)), crs)


def between_edges(shape: Any, crs: CRS) -> Any:
    """A shape that goes past the edges in parts that do not."""
    assert crs.circuit is not None
    middle, turn = crs.circuit
    west = middle - turn / 2
    low, _, high, _ = shape.bounds
    parts = []
    for number in range(math.floor((low - west) / turn + _SLACK), math.ceil((high - west) / turn - _SLACK)):
        begin = west + number * turn
        bottom, top = shape.bounds[1] - 1, shape.bounds[3] + 1
        part = shapely.intersection(shape, shapely.box(begin, bottom, begin + turn, top))
        parts.append(translate(part, -number * turn))
    return _gathered(parts)


def _gathered(shapes: Sequence[Any]) -> Any:
    """Parts of one kind as one shape; corners and lines that a cut leaves of areas are none."""
    parts = shapely.get_parts(np.array(shapes, object))
    parts = shapely.get_parts(parts[~shapely.is_empty(parts)])
    dimensions = shapely.get_dimensions(parts)
    parts = parts[dimensions == dimensions.max()] if parts.size else parts
    return shapely.union_all(parts) if dimensions.size and dimensions.max() == 2 else _of_lines(parts)


def _of_lines(parts: npt.NDArray[np.object_]) -> Any:
    return parts[0] if len(parts) == 1 else shapely.multilinestrings(parts)


def together(shape: Any, crs: CRS | None) -> Any:
    """The parts of an area moved by whole turns so that they span least, past an edge if need be."""
    if crs is None or crs.circuit is None:
        return shape
    turn, parts = crs.circuit.turn, shapely.get_parts(shape)
    west, _, east, _ = shapely.bounds(parts).T
    order = np.argsort(west)
    reach = np.maximum.accumulate(east[order])
    gaps = np.append(west[order][1:], west.min() + turn) - reach
    widest = int(np.argmax(gaps))
    if widest == len(parts) - 1:
        return shape
    moved = np.zeros(len(parts))
    moved[order[: widest + 1]] = turn  # what lies west of the widest gap comes after the rest
    shifted = [translate(part, away) for part, away in zip(parts, moved.tolist(), strict=True)]
    return shapely.union_all(shifted)
