"""Features and points as Arrow tables. Source: GeoArrow 0.2, "geoarrow.wkb" and extension metadata."""

from __future__ import annotations

import html
import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from itertools import islice
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from zembrel.errors import InputError
from zembrel.features.columns import column
from zembrel.features.table import FeatureTable
from zembrel.geodesy.crs import CRS, UnresolvedCRS, label
from zembrel.geodesy.text import read_crs, write_crs
from zembrel.inputs.options import Output
from zembrel.points.files.parquet import PointTableEncoder, point_schema
from zembrel.points.las.laswriting import NewFile
from zembrel.points.model import PointBlock, PointSource
from zembrel.results.tables import write_layer

_NAME, _ABOUT = b"ARROW:extension:name", b"ARROW:extension:metadata"
_KINDS = (b"geoarrow.wkb", b"ogc.wkb")
_ROWS = 8  # of a table in a notebook


@dataclass(frozen=True, eq=False)
class OpenFeatures(FeatureTable):
    """Features for Python: Arrow and GeoJSON-like objects out, files by `save`."""

    def to_arrow(self) -> Any:
        """A table of the fields, and of `geometry` as WKB with its CRS (GeoArrow)."""
        import pyarrow as pa

        known = self.crs is not None and not isinstance(self.crs, UnresolvedCRS)
        about = {"crs": json.loads(write_crs(self.crs, "json"))} if known and self.crs is not None else {}
        marks = {_NAME: _KINDS[0], _ABOUT: json.dumps(about).encode()}
        names = [*self.columns, "geometry"]
        arrays = [pa.array(values.tolist(), from_pandas=True) for values in self.columns.values()]
        arrays.append(pa.array(shapely.to_wkb(self.geometries).tolist(), pa.binary()))
        fields = [pa.field(name, array.type) for name, array in zip(names, arrays, strict=True)]
        schema = pa.schema([*fields[:-1], fields[-1].with_metadata(marks)])
        return pa.Table.from_arrays(arrays, schema=schema)

    @property
    def __geo_interface__(self) -> dict[str, Any]:
        """A feature collection as GeoJSON words it, in the CRS of the features."""
        features = [
            {
                "type": "Feature",
                "properties": row,
                "geometry": None if shape is None else shape.__geo_interface__,
            }
            for shape, row in zip(self.geometries, self.rows(), strict=True)
        ]
        return {"type": "FeatureCollection", "features": features}

    def save(self, path: str | Path, *, replace: bool = False) -> Path:
        """Write the features to a file of any format. Raises RefusedError, UsageError."""
        write_layer(Path(path), self, Output(str(path), replace=replace))
        return Path(path)

    def __repr__(self) -> str:
        return f"<Features {len(self):,}   {label(self.crs)}   {', '.join(self.columns) or 'no fields'}>"

    def _repr_html_(self) -> str:
        rows = [*islice(self.rows(), _ROWS)]
        head = "".join(f"<th>{html.escape(name)}</th>" for name in (*self.columns, "geometry"))
        kinds = [getattr(shape, "geom_type", "none") for shape in self.geometries[:_ROWS]]
        body = "".join(
            f"<tr>{''.join(f'<td>{html.escape(str(value))}</td>' for value in (*row.values(), kind))}</tr>"
            for row, kind in zip(rows, kinds, strict=True)
        )
        about = f"{len(self):,} features, {html.escape(label(self.crs))}"
        return f"<p>{about}</p><table><tr>{head}</tr>{body}</table>"


def open_features(table: FeatureTable) -> OpenFeatures:
    """A feature table for Python."""
    return OpenFeatures(table.geometries, table.columns, table.crs, table.remarks, table.ids, table.key)


def from_arrow(table: Any, crs: CRS | None = None) -> OpenFeatures:
    """The features of an Arrow table with a column of WKB, by its extension or called `geometry`.

    crs: if the table does not tell it. Raises InputError without such a column.
    """
    import pyarrow as pa

    held = pa.table(table)
    fields: Mapping[str, Any] = {field.name: field for field in held.schema}
    marked = [name for name, field in fields.items() if (field.metadata or {}).get(_NAME) in _KINDS]
    place = next(iter(marked), "geometry" if "geometry" in fields else None)
    if place is None:
        what = "the table has no column of geometries"
        raise InputError(what, f"it has {', '.join(fields) or 'none'}", "give one of WKB, called geometry")
    about = json.loads((fields[place].metadata or {}).get(_ABOUT) or b"{}")
    told = read_crs(json.dumps(about["crs"])) if isinstance(about.get("crs"), dict) else None
    try:
        shapes = shapely.from_wkb(np.asarray(held.column(place).to_pylist(), object))
    except (shapely.errors.ShapelyError, TypeError) as exc:
        raise InputError(
            f"{place} holds no WKB", str(exc).splitlines()[0], "encode it with shapely.to_wkb"
        ) from exc
    columns = {name: column(held.column(name).to_pylist()) for name in fields if name != place}
    return OpenFeatures(np.asarray(shapes, object), columns, crs or told)


@dataclass(frozen=True, eq=False)
class OpenPoints:
    """Points for Python: their cloud (layout, scaling, CRS, bounds), and tables of Arrow."""

    source: PointSource

    @property
    def cloud(self) -> Any:
        """What is known of the points without reading them."""
        return self.source.cloud

    @property
    def parts(self) -> Any:
        """The pieces in which the file can be read."""
        return self.source.parts

    def read(self, part: Any, fields: Any = None) -> PointBlock:
        """The points of a part."""
        return self.source.read(part, fields)

    def __len__(self) -> int:
        return int(self.cloud.count)

    def batches(self, *names: str) -> Iterator[Any]:
        """Tables of these values (all plain ones if none is named), a part at a time: bounded memory."""
        new = NewFile(self.cloud.layout, self.cloud.scaling, self.cloud.crs, False, columns=names or None)
        encoder = PointTableEncoder(point_schema(new))
        for part in self.parts:
            yield encoder.encode(self.source.read(part))

    def to_arrow(self, *names: str) -> Any:
        """One table of all points; x, y and z are coordinates in the CRS that the schema's metadata tell."""
        import pyarrow as pa

        return pa.concat_tables(self.batches(*names))

    def __repr__(self) -> str:
        return f"<Points {len(self):,}   {label(self.cloud.crs)}   {', '.join(self.cloud.layout.names)}>"
