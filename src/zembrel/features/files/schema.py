"""What a layer of a feature file will hold, and geometries made to be of one kind."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field, replace
from typing import NamedTuple

import numpy as np
import shapely

from zembrel.features.columns import MOMENT, TEXT, Column, ColumnSeen
from zembrel.features.table import FeatureTable, Geometries
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


@dataclass
class LayerSeen:
    """What a layer holds, learned part by part; the columns of parts may differ.

    kinds: of geometries; missing: features without one; heights: whether some have them; widths: most bytes
    of a value as a word; told: whether every feature has an id.
    """

    count: int = 0
    missing: int = 0
    kinds: set[str] = field(default_factory=set)
    heights: bool = False
    columns: dict[str, ColumnSeen] = field(default_factory=dict)
    widths: dict[str, int] = field(default_factory=dict)
    crs: CRS | None = None
    told: bool = True
    key: str = ""

    def add(self, table: FeatureTable) -> None:
        """Learn from a part."""
        self.crs, self.key = (table.crs, table.key) if not self.count else (self.crs, self.key)
        for name in [name for name in self.columns if name not in table.columns]:
            self.columns[name].lack()
        for name, values in table.columns.items():
            if name not in self.columns:
                self.columns[name] = ColumnSeen(missing=self.count > 0)
            self.columns[name].add(values)
            self.widths[name] = max(self.widths.get(name, 1), _width(values))
        self.count += len(table)
        self.missing += int(shapely.is_missing(table.geometries).sum())
        self.kinds.update(kinds_in(table.geometries))
        self.heights |= bool(shapely.has_z(table.geometries).any())
        self.told &= table.ids is not None

    def fitted(self, table: FeatureTable) -> FeatureTable:
        """A part with the columns of the whole, each as the whole holds it."""
        none = np.full(len(table), None)
        columns = {name: held.fitted(table.columns.get(name, none)) for name, held in self.columns.items()}
        return replace(
            table, columns=columns, crs=self.crs, ids=table.ids if self.told else None, key=self.key
        )

    def schema(self, name: str) -> Schema:
        """What a file of it will hold."""
        singles = {kind.removeprefix("Multi") for kind in self.kinds}
        several = f"Multi{next(iter(singles), '')}" if len(self.kinds) == 2 else "".join(self.kinds)
        fields = {}
        for column, held in self.columns.items():
            kind = held.kind
            width = self.widths[column] if kind == TEXT else 0
            fields[column] = Field(kind, width, held.zone if kind == MOMENT else "")
        return Schema(name, several if len(singles) == 1 else GEOMETRY, self.heights, fields, self.crs)


def schema_of(tables: Iterable[FeatureTable], name: str) -> Schema:
    """What a layer of all of `tables` will hold."""
    seen = LayerSeen()
    for table in tables:
        seen.add(table)
    return seen.schema(name)


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


def _width(values: Column) -> int:
    """Bytes of the longest value as a word."""
    if values.dtype.kind == "O":
        return max((len(str(value).encode()) for value in values.tolist() if value is not None), default=1)
    ends = (values.min(), values.max()) if values.size and values.dtype.kind in "iu" else (values.itemsize,)
    return 25 if values.dtype.kind == "f" else max(len(str(end)) for end in ends)


def alike(geometries: Geometries, kind: str) -> Geometries:
    """Single points, lines and polygons as collections of one where `kind` is such a collection."""
    make = _MULTIPLE.get(kind)
    if make is None:
        return geometries
    single = np.isin(shapely.get_type_id(geometries), (0, 1, 2, 3))
    made = geometries.copy()
    made[single] = make(geometries[single], indices=np.arange(single.sum()))
    return made
