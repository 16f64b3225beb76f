"""GeoParquet: tables with a column of geometries as well-known binary.

Source: GeoParquet 1.1.0 (OGC), by way of the Arrow package; the metadata key `geo`. A column without a CRS is
in longitude and latitude of WGS 84 by the standard; `crs: null` says that nobody knows.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from zembrel import provenance
from zembrel.errors import InputError
from zembrel.facts import Fact
from zembrel.features.columns import DAY, INTEGER, MOMENT, NESTED, REAL, TRUTH, column
from zembrel.features.depth import check_binary
from zembrel.features.files.jsontext import BATCH
from zembrel.features.files.nested import NESTING, nested
from zembrel.features.files.schema import Schema, kinds_in
from zembrel.features.table import FeatureTable
from zembrel.geodesy.crs import CRS
from zembrel.geodesy.registry import by_code
from zembrel.geodesy.text import read_crs, write_crs
from zembrel.nested import json_of
from zembrel.provenance import KEY, document

_VERSION = "1.1.0"


def is_ours(path: Path) -> bool:
    """Whether the table has the metadata of features; others hold cells."""
    return bool(_geo(path)) if path.is_file() else path.suffix.lower() == ".geoparquet"


def layers(path: Path) -> list[str]:
    return [path.stem]


def _geo(path: Path) -> dict[str, Any]:
    import pyarrow as pa
    import pyarrow.parquet as pq

    try:
        metadata = pq.read_metadata(path).metadata or {}
        found = json_of(metadata.get(b"geo", b"{}"))
        provenance.found(path, metadata.get(KEY.encode(), b"").decode("utf-8", "replace"))
    except (pa.ArrowException, OSError, ValueError):
        return {}
    return found if isinstance(found, dict) else {}


def parts(path: Path, layer: str | None = None) -> Iterator[FeatureTable]:
    """The features of the table at `path`, some at a time. Raises InputError."""
    import pyarrow as pa
    import pyarrow.parquet as pq

    geo = _geo(path)
    primary = geo.get("primary_column", "geometry")
    facts = geo.get("columns", {}).get(primary, {})
    encoding = str(facts.get("encoding", "WKB")).lower()
    try:
        with pq.ParquetFile(path, pre_buffer=False) as file:
            if primary not in file.schema_arrow.names:
                raise _broken(path, f"there is no column of geometries {primary!r}")
            if encoding != "wkb" and encoding not in NESTING:
                raise _broken(path, f"geometries are {facts['encoding']}, which GeoParquet does not know")
            some = False
            for batch in file.iter_batches(BATCH):
                some = True
                yield _part(path, pa.Table.from_batches([batch]), primary, facts)
            if not some:
                yield _part(path, file.schema_arrow.empty_table(), primary, facts)
    except (pa.ArrowException, OSError, ValueError, OverflowError) as exc:
        raise _broken(path, f"{exc}".splitlines()[0]) from exc


def _part(path: Path, table: Any, primary: str, facts: dict[str, Any]) -> FeatureTable:
    """Some rows as features."""
    import pyarrow as pa

    encoding = str(facts.get("encoding", "WKB")).lower()
    try:
        places = table.column(primary)
        if encoding == "wkb":
            bodies = places.to_numpy()
            check_binary(path, bodies)
            geometries = shapely.from_wkb(bodies)
        else:
            geometries = nested(places, encoding)
    except (shapely.errors.ShapelyError, TypeError, ValueError, KeyError, pa.ArrowException) as exc:
        raise _broken(path, f"{exc}".splitlines()[0]) from exc
    remarks: list[str] = []
    names = [name for name in table.column_names if name not in (primary, *_boxes(facts))]
    columns = {name: _column(name, table.column(name), remarks) for name in names}
    held = {name: values for name, values in columns.items() if values is not None}
    left = [name for name in columns if name not in held]
    remarks += [f"binary columns left out: {', '.join(left)}"] if left else []
    return FeatureTable(np.asarray(geometries, object), held, _crs(facts), tuple(remarks))


def _boxes(facts: dict[str, Any]) -> set[str]:
    """The columns of boxes that cover the features; none where `covering` is not as the standard has it."""
    covering = facts.get("covering")
    sides = covering.get("bbox") if isinstance(covering, dict) else None
    paths = sides.values() if isinstance(sides, dict) else ()
    return {str(path[0]) for path in paths if isinstance(path, list) and path}


def _column(name: str, values: Any, remarks: list[str]) -> Any:
    """A column of ours; None for bytes."""
    import pyarrow as pa

    if pa.types.is_binary(values.type) or pa.types.is_large_binary(values.type):
        return None
    if pa.types.is_timestamp(values.type) and values.type.unit == "ns":
        short = values.cast(pa.timestamp("us", values.type.tz), safe=False)
        if not short.cast(values.type).equals(values):
            remarks.append(f"times of {name} are kept to the microsecond")
        values = short
    return column(values.to_pylist())


def _crs(facts: dict[str, Any]) -> CRS | None:
    said = facts.get("crs", ...)
    if said is ...:
        return by_code(4326)
    return None if said is None else read_crs(json.dumps(said))


def _broken(path: Path, why: str) -> InputError:
    return InputError(f"{path} is no sound GeoParquet", why, "get the file again, or name another one")


def make_writer(path: Path, schema: Schema) -> GeoParquetWriter:
    return GeoParquetWriter(path, schema)


class GeoParquetWriter:
    """A group of rows for each table."""

    def __init__(self, path: Path, schema: Schema) -> None:
        import pyarrow as pa
        import pyarrow.parquet as pq

        kinds = {
            INTEGER: pa.int64(), REAL: pa.float64(), TRUTH: pa.bool_(), DAY: pa.date32(),
        }  # fmt: skip
        self._kinds = {name: field.kind for name, field in schema.fields.items()}
        self._place = next(
            name for name in ("geometry", "geometry_", "geometry__") if name not in schema.fields
        )
        fields = [
            (name, pa.timestamp("us", f.zone or None) if f.kind == MOMENT else kinds.get(f.kind, pa.string()))
            for name, f in schema.fields.items()
        ]
        self._schema = pa.schema([*fields, (self._place, pa.binary())])
        self._crs = json_of(write_crs(schema.crs, "json")) if schema.crs is not None else None
        self._provenance = document()
        self._writer = pq.ParquetWriter(path, self._schema, compression="zstd")
        self._found: set[str] = set()
        self._bounds: list[Any] = []

    def add(self, table: FeatureTable) -> None:
        import pyarrow as pa

        z = bool(shapely.has_z(table.geometries).any())
        self._found |= {f"{kind}{' Z' * z}" for kind in kinds_in(table.geometries)}
        self._bounds.append(shapely.total_bounds(table.geometries))
        arrays = [
            _array(table.columns[name], self._schema.field(name).type, self._kinds[name])
            for name in self._kinds
        ]
        body = shapely.to_wkb(table.geometries, byte_order=1, flavor="iso")
        self._writer.write_table(
            pa.Table.from_arrays([*arrays, pa.array(body.tolist(), pa.binary())], schema=self._schema)
        )

    def finish(self) -> tuple[Fact, ...]:
        bounds = np.array(self._bounds or [[np.nan] * 4])
        facts: dict[str, Any] = {"encoding": "WKB", "geometry_types": sorted(self._found), "crs": self._crs}
        if np.isfinite(bounds).any():
            facts["bbox"] = [
                *np.nanmin(bounds[:, :2], axis=0).tolist(),
                *np.nanmax(bounds[:, 2:], axis=0).tolist(),
            ]
        geo = {"version": _VERSION, "primary_column": self._place, "columns": {self._place: facts}}
        told = {KEY: self._provenance} if self._provenance is not None else {}
        self._writer.add_key_value_metadata({"geo": json.dumps(geo), **told})
        self._writer.close()
        return ()

    def abort(self) -> None:
        self._writer.close()


def _array(values: Any, kind: Any, held: str) -> Any:
    import pyarrow as pa

    if values.dtype.kind == "f":
        return pa.array(values, kind, from_pandas=True)
    if values.dtype != object:
        return pa.array(values, kind)
    words = values.tolist()
    if held == NESTED:
        words = [None if value is None else json.dumps(value) for value in words]
    elif pa.types.is_string(kind):
        words = [None if value is None else str(value) for value in words]
    return pa.array(words, kind)
