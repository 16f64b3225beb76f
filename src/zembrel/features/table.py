"""The feature table: geometries, columns of attributes, and a CRS."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date, datetime
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt
import shapely

from zembrel.errors import InputError, nearest_name
from zembrel.expression.formula import Condition, parse_condition
from zembrel.features.followed import followed
from zembrel.geodesy.crs import CRS, same
from zembrel.geodesy.operation import operation

Geometries = npt.NDArray[np.object_]
Column = npt.NDArray[Any]
Row = dict[str, Any]
INTEGER, REAL, TRUTH, DAY, MOMENT, NESTED, TEXT = (
    "integer",
    "real",
    "truth",
    "day",
    "moment",
    "nested",
    "text",
)


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
        lists = [_plain(values) for values in self.columns.values()]
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
            raise InputError(
                f"no feature meets {condition.text!r}",
                f"all {len(self):,} were looked at",
                "check the values",
            )
        return self.take(kept)

    def with_fields(self, names: Sequence[str]) -> FeatureTable:
        """The same features with these columns alone, in this order. Raises InputError."""
        return replace(self, columns={name: self.named(name) for name in names})

    def to(self, crs: CRS | None) -> FeatureTable:
        """The same features in another CRS, their edges followed within a centimetre. Raises InputError."""
        if crs is None or (self.crs is not None and same(self.crs, crs)):
            return self
        if self.crs is None:
            raise InputError(
                "features without a CRS have no place", "their file does not say", "add --from-crs CRS"
            )
        return replace(self, geometries=followed(self.geometries, operation(self.crs, crs), crs), crs=crs)

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
        if not polygons:
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


def column(values: Sequence[Any]) -> Column:
    """Values as the narrowest column that holds them exactly; None is missing."""
    kinds = {type(value) for value in values if value is not None}
    missing = any(value is None for value in values)
    if kinds == {bool} and not missing:
        return np.array(values, bool)
    if kinds == {int} and not missing and all(-(2**63) <= value < 2**63 for value in values):
        return np.array(values, np.int64)
    if float in kinds and kinds <= {int, float}:
        return np.array([np.nan if value is None else value for value in values], np.float64)
    made = np.empty(len(values), object)
    made[:] = values
    return made


def kind_of(values: Column) -> str:
    """What a column holds: `integer`, `real`, `truth`, `day`, `moment`, `nested` or `text`."""
    by_dtype = {"i": INTEGER, "u": INTEGER, "f": REAL, "b": TRUTH}.get(values.dtype.kind)
    if by_dtype:
        return by_dtype
    kinds = {type(value) for value in values.tolist() if value is not None}
    if kinds and kinds <= {list, dict}:
        return NESTED
    if kinds == {int}:
        return INTEGER if all(-(2**63) <= v < 2**63 for v in values.tolist() if v is not None) else TEXT
    if kinds == {datetime} and len({v.tzinfo is None for v in values.tolist() if v is not None}) > 1:
        return TEXT  # nobody knows how those of one zone and those of none follow each other
    return {bool: TRUTH, date: DAY, datetime: MOMENT}.get(kinds.pop(), TEXT) if len(kinds) == 1 else TEXT


def _plain(values: Column) -> list[Any]:
    if values.dtype.kind == "f":
        return [None if value != value else value for value in values.tolist()]
    return list(values.tolist())


def appended(tables: Sequence[FeatureTable]) -> FeatureTable:
    """All features of tables in one CRS, in order; a column that a table lacks is missing there."""
    names = dict.fromkeys(name for table in tables for name in table.columns)
    columns = {name: column([v for table in tables for v in _values_of(table, name)]) for name in names}
    geometries = np.concatenate([table.geometries for table in tables])
    joined = FeatureTable(geometries, columns, tables[0].crs)
    told = [table.ids.tolist() for table in tables if table.ids is not None]
    listed = [value for values in told for value in values]
    if len(told) < len(tables) or len({*map(repr, listed)}) < len(listed):
        return joined
    return replace(joined, ids=column(listed), key=tables[0].key)


def _values_of(table: FeatureTable, name: str) -> list[Any]:
    return _plain(table.columns[name]) if name in table.columns else [None] * len(table)
