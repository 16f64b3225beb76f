"""The feature table: geometries, columns of attributes, and a CRS."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt
import shapely

from zembrel.errors import EmptyInputError, InputError, nearest_name
from zembrel.expression.formula import Condition, parse_condition
from zembrel.features.columns import Column, ColumnSeen, column, kind_of, plain
from zembrel.features.followed import CLOSE, followed
from zembrel.geodesy.crs import CRS, same
from zembrel.geodesy.operation import operation

Geometries = npt.NDArray[np.object_]
Row = dict[str, Any]


@dataclass(frozen=True, eq=False)
class FeatureTable:
    """Features in file order.

    geometries: (n,) of Shapely, None where a feature has no geometry; columns: (n,) each, int64, float64 with
    NaN for missing values, bool, or objects with None; crs: None if nobody said; remarks of the reader; ids:
    (n,) what the file itself tells features apart by, which it calls `key`; None if it does not.
    """

    geometries: Geometries
    columns: Mapping[str, Column]
    crs: CRS | None
    remarks: tuple[str, ...] = field(default=())
    ids: Column | None = None
    key: str = ""

    @classmethod
    def of(
        cls,
        geometries: Sequence[Any] | Geometries,
        rows: Sequence[Mapping[str, Any]],
        crs: CRS | None,
        *remarks: str,
    ) -> FeatureTable:
        """A table of rows, whose columns are all the names that occur in them."""
        names = dict.fromkeys(name for row in rows for name in row)
        columns = {name: column([row.get(name) for row in rows]) for name in names}
        return cls(geometry_array(geometries), columns, crs, remarks)

    def __len__(self) -> int:
        return len(self.geometries)

    @cached_property
    def kinds(self) -> dict[str, str]:
        """What each column holds."""
        return {name: kind_of(values) for name, values in self.columns.items()}

    def rows(self) -> Iterator[Row]:
        """The attributes of each feature, missing values as None."""
        lists = [plain(values) for values in self.columns.values()]
        for values in zip(*lists, strict=True) if lists else ((),) * len(self):
            yield dict(zip(self.columns, values, strict=True))

    def take(self, index: Any) -> FeatureTable:
        """The features at `index`, numbers or a mask, in its order."""
        taken = {name: values[index] for name, values in self.columns.items()}
        ids = None if self.ids is None else self.ids[index]
        return replace(self, geometries=self.geometries[index], columns=taken, ids=ids)

    def named(self, name: str) -> Column:
        """The column of that name, or the ids. Raises InputError, with the near miss."""
        if name not in self.columns:
            if self.ids is not None and name == self.key:
                return self.ids
            known = list(self.columns)
            raise InputError(
                f"no feature has a field {name!r}",
                f"there are {', '.join(known) or 'none'}",
                nearest_name(name, known) if known else "leave it out",
            )
        return self.columns[name]

    def numbers(self, name: str) -> npt.NDArray[np.float64]:
        """A column as float64, NaN where missing. Raises InputError for anything but numbers."""
        values = self.named(name)
        if values.dtype != object:
            return values.astype(np.float64)
        for number, value in enumerate(values.tolist(), 1):
            if value is not None and not isinstance(value, int | float):
                raise InputError(
                    f"feature {number} has {name} = {value!r}",
                    "a number is needed",
                    "pick features with --where, or name another field",
                )
        return np.array([np.nan if value is None else value for value in values.tolist()], np.float64)

    def where(self, condition: Condition | str) -> FeatureTable:
        """The features that meet a condition, such as `depth > 3 and kind == 'path'`.

        Raises UsageError for what is no condition or a field that is not there, InputError if none meets it.
        """
        columns = self.columns if self.ids is None else {self.key: self.ids} | dict(self.columns)
        condition = parse_condition(condition) if isinstance(condition, str) else condition
        condition.check_names(columns)
        kept = condition.met(columns, len(self))
        if not kept.any():
            raise EmptyInputError(
                f"no feature meets {condition.text!r}",
                f"all {len(self):,} were looked at",
                "check the values",
            )
        return self.take(kept)

    def with_fields(self, names: Sequence[str]) -> FeatureTable:
        """The same features with these columns alone, in this order. Raises InputError."""
        return replace(self, columns={name: self.named(name) for name in names})

    def to(self, crs: CRS | None, close: float = CLOSE) -> FeatureTable:
        """The same features in another CRS, their edges followed kept. Raises InputError.

        close: metres on the ground by which an edge may miss its true course.
        """
        if crs is None or (self.crs is not None and same(self.crs, crs)):
            return self
        if self.crs is None:
            raise InputError(
                "features without a CRS have no place", "their file does not say", "add --from-crs CRS"
            )
        moved = followed(self.geometries, operation(self.crs, crs), crs, close)
        return replace(self, geometries=moved, crs=crs)

    def polygon(self, first: int = 1) -> shapely.Geometry:
        """All polygons as one. Raises InputError for none, or for a faulty one, saying what and where.

        first: the number of the first feature, for that word.
        """
        polygons = []
        for number, geometry in enumerate(self.geometries, first):
            if geometry is None or geometry.geom_type not in ("Polygon", "MultiPolygon"):
                continue
            if not geometry.is_valid:
                raise InputError(
                    f"feature {number} is not a proper polygon",
                    fault(geometry),
                    "mend it (zembrel convert FILE --repair --out MENDED), or leave it out",
                )
            polygons.append(geometry)
        if shapely.is_empty(polygons).all():
            raise InputError("the features hold no polygon", "an area to keep has an inside", "give polygons")
        return shapely.union_all(polygons)


def fault(geometry: shapely.Geometry | None) -> str:
    """What is wrong with a geometry and where; nothing if it is sound."""
    if geometry is None:
        return "it has no geometry"
    if geometry.is_empty:
        return "it is empty"
    if not np.isfinite(shapely.get_coordinates(geometry)).all():
        return "a coordinate is no number"
    if not geometry.is_valid:
        return str(shapely.is_valid_reason(geometry)).lower().replace("[", " at ").replace("]", "")
    return ""


def geometry_array(geometries: Sequence[Any] | Geometries) -> Geometries:
    """Any sequence of geometries as (n,) objects."""
    made = np.empty(len(geometries), object)
    made[:] = geometries
    return made


def appended(tables: Sequence[FeatureTable]) -> FeatureTable:
    """All features of tables in one CRS, in order; a column that a table lacks is missing there."""
    if len(tables) == 1:
        return tables[0]
    names = dict.fromkeys(name for table in tables for name in table.columns)
    columns = {}
    for name in names:
        held, parts = ColumnSeen(), [t.columns.get(name, np.full(len(t), None)) for t in tables]
        for part in parts:
            held.add(part)
        columns[name] = np.concatenate([held.fitted(part) for part in parts])
    geometries = np.concatenate([table.geometries for table in tables])
    remarks = tuple(dict.fromkeys(remark for table in tables for remark in table.remarks))
    joined = FeatureTable(geometries, columns, tables[0].crs, remarks)
    told = [table.ids.tolist() for table in tables if table.ids is not None]
    listed = [value for values in told for value in values]
    if len(told) < len(tables) or len({*map(repr, listed)}) < len(listed):
        return joined
    return replace(joined, ids=column(listed), key=tables[0].key)
