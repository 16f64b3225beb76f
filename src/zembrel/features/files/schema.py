"""What a layer of a feature file will hold, and geometries made to be of one kind."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

import numpy as np
import shapely

from zembrel.features.table import MOMENT, TEXT, FeatureTable, Geometries
from zembrel.geodesy.crs import CRS

GEOMETRY = "Geometry"  # any kind
KINDS = (
    "Point",
    "LineString",
    "LinearRing",
    "Polygon",
    "MultiPoint",
    "MultiLineString",
    "MultiPolygon",
    GEOMETRY,
)
_MULTIPLE: dict[str, Callable[..., Geometries]] = {
    "MultiPoint": shapely.multipoints, "MultiLineString": shapely.multilinestrings,
    "MultiPolygon": shapely.multipolygons,
}  # fmt: skip


class Field(NamedTuple):
    """A column of a file: what it holds (see `kind_of`), most bytes of its words, the zone of its times."""

    kind: str
    width: int = 254
    zone: str = ""


class Schema(NamedTuple):
    """What a layer will hold: its name, the kind of its geometries, whether they have heights, its fields.

    classes: of fields that hold codes, what each code means.
    """

    name: str
    kind: str
    heights: bool
    fields: dict[str, Field]
    crs: CRS | None
    classes: dict[str, list[tuple[int, str]]] = {}  # noqa: RUF012 read alone


def schema_of(tables: Sequence[FeatureTable], name: str) -> Schema:
    """What a layer of all of `tables`, which have the same columns, will hold."""
    kinds = {kind for table in tables for kind in kinds_in(table.geometries)}
    singles = {kind.removeprefix("Multi") for kind in kinds}
    kind = GEOMETRY if len(singles) != 1 else f"Multi{singles.pop()}" if len(kinds) == 2 else kinds.pop()
    heights = any(shapely.has_z(table.geometries).any() for table in tables)
    fields = {
        name: Field(
            kind, _width(tables, name) if kind == TEXT else 0, _zone(tables, name) if kind == MOMENT else ""
        )
        for name, kind in tables[0].kinds.items()
    }
    return Schema(name, kind, heights, fields, tables[0].crs)


def _zone(tables: Sequence[FeatureTable], name: str) -> str:
    """The time zone of a column of times: the one that all name, UTC if they differ, empty for none."""
    moments = [value for table in tables for value in table.columns[name].tolist() if value is not None]
    zones = {str(value.tzinfo).removeprefix("UTC") or "UTC" for value in moments if value.tzinfo is not None}
    return zones.pop() if len(zones) == 1 else "UTC" if zones else ""


def apart(names: Sequence[str]) -> list[str]:
    """Names that occur twice with a number behind the second, each name once."""
    made: list[str] = []
    for name in names:
        number, other = 1, name
        while other in made or (number > 1 and other in names):
            number += 1
            other = f"{name}_{number}"
        made.append(other)
    return made


def kinds_in(geometries: Geometries) -> list[str]:
    """Names of the kinds of geometries, the empty table's none."""
    numbers = np.unique(shapely.get_type_id(geometries))
    return ["LineString" if n == 2 else KINDS[n] for n in numbers.tolist() if n >= 0]


def _width(tables: Sequence[FeatureTable], name: str) -> int:
    words = (str(value) for table in tables for value in table.columns[name].tolist() if value is not None)
    return max((len(word.encode()) for word in words), default=1)


def alike(geometries: Geometries, kind: str) -> Geometries:
    """Single points, lines and polygons as collections of one where `kind` is such a collection."""
    make = _MULTIPLE.get(kind)
    if make is None:
        return geometries
    single = np.isin(shapely.get_type_id(geometries), (0, 1, 2, 3))
    made = geometries.copy()
    made[single] = make(geometries[single], indices=np.arange(single.sum()))
    return made
