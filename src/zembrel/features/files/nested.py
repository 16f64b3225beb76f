"""Geometries as nested lists of coordinates in Arrow columns, the native encodings of GeoParquet 1.1.

Source: GeoParquet 1.1.0, "native encodings": `point` is a struct of x, y and z, `linestring` a list of them,
and so on.
"""

from __future__ import annotations

from typing import Any

import numpy as np
import shapely

from zembrel.features.table import Geometries

NESTING = {
    "point": 0, "linestring": 1, "multipoint": 1, "polygon": 2, "multilinestring": 2, "multipolygon": 3,
}  # fmt: skip
_KINDS = {
    "point": shapely.GeometryType.POINT, "linestring": shapely.GeometryType.LINESTRING,
    "polygon": shapely.GeometryType.POLYGON, "multipoint": shapely.GeometryType.MULTIPOINT,
    "multilinestring": shapely.GeometryType.MULTILINESTRING,
    "multipolygon": shapely.GeometryType.MULTIPOLYGON,
}  # fmt: skip


def nested(column: Any, encoding: str) -> Geometries:
    """The geometries of an Arrow column, (n,), None where it has nothing.

    Raises ValueError or KeyError if it is not nested as `encoding` says.
    """
    array = column.combine_chunks()
    known = np.asarray(array.is_valid())
    level = array.drop_null()
    offsets: list[Any] = []
    for _ in range(NESTING[encoding]):
        if not hasattr(level, "flatten"):
            raise ValueError(f"its lists are not nested as {encoding} asks")
        offsets.insert(0, np.concatenate([[0], np.cumsum(level.value_lengths())]).astype(np.int64))
        level = level.flatten()
    if not hasattr(level, "field"):
        raise ValueError("its coordinates are no structs of x and y")
    parts = {
        level.type.field(n).name: np.asarray(level.field(n), float) for n in range(level.type.num_fields)
    }
    axes = [parts["x"], parts["y"], *([parts["z"]] if "z" in parts else [])]
    made = shapely.from_ragged_array(_KINDS[encoding], np.column_stack(axes), tuple(offsets) or None)
    found = np.full(len(array), None, object)
    found[known] = made
    return found
