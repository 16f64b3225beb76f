"""Parquet of points: a column a value, with scaling and CRS in the metadata."""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from zembrel.errors import InputError
from zembrel.geodesy.crs import UnresolvedCRS
from zembrel.geodesy.text import read_crs, write_crs
from zembrel.nested import json_of
from zembrel.points.files import Reading
from zembrel.points.files.columns import (
    SKIPPED,
    Steps,
    block_of,
    check_place,
    fields_told,
    layout_for,
    meant,
    read_fields_told,
    unheld,
)
from zembrel.points.las.laswriting import NewFile
from zembrel.points.model import Cloud, Fields, Part, PointBlock, PointSource, Scaling
from zembrel.points.records import Values
from zembrel.points.sink import PointSink

_KEY = b"points"  # of the metadata: that it holds points, their scaling and CRS
_FIELDS = b"fields"  # of the metadata: how extra bytes are stored


def is_ours(path: Path) -> bool:
    """Whether the metadata say that it holds points."""
    try:
        return _KEY in (_opened(path).schema_arrow.metadata or {})
    except InputError:
        return False


_GROUP = 500_000  # rows


def open_points(path: Path, reading: Reading) -> PointSource:
    """The table at `path`. Raises InputError."""
    file = _opened(path)
    stored = file.schema_arrow.names
    metadata = file.schema_arrow.metadata or {}
    fields = read_fields_told(metadata.get(_FIELDS, b"{}"))
    asked = reading.columns and len(reading.columns) == len(stored)
    names = meant(reading.columns if asked and reading.columns else stored, {} if asked else fields)
    check_place(names, path)
    told = _told(path, metadata.get(_KEY, b"{}"))
    kinds, steps = {}, Steps(path)
    for name, column in zip(names, file.schema_arrow, strict=True):
        kind = np.dtype(column.type.to_pandas_dtype())
        if kind.kind in "iufb" and name != SKIPPED:
            kinds[name] = kind
    if not told:
        for group in range(file.num_row_groups):
            with _reading(path):
                table = file.read_row_group(group)
                places = [table.column(names.index(name)).to_numpy() for name in "xyz"]
            for axis, values in enumerate(places):
                steps.look(axis, values)
    scaling = Scaling(tuple(told["scale"]), tuple(told["offset"])) if told else steps.scaling()
    crs = read_crs(told["crs"]) if told.get("crs") else None
    cloud = Cloud(layout_for(kinds, fields), scaling, crs, file.metadata.num_rows)
    groups = tuple(Part(n, file.metadata.row_group(n).num_rows) for n in range(file.num_row_groups))
    return ParquetSource(path, names, cloud, groups)


@contextmanager
def _reading(path: Path) -> Iterator[None]:
    """What the package objects to as an InputError about `path`."""
    import pyarrow

    try:
        yield
    except (pyarrow.ArrowException, OSError, ValueError) as exc:
        why = str(exc).partition("\n")[0]
        raise InputError(
            f"{path} cannot be read as Parquet", why, "check the file, or fetch it again"
        ) from exc


def _told(path: Path, text: bytes) -> dict[str, Any]:
    """What the metadata say of the points: nothing, or scale, offset and CRS."""
    try:
        told = json_of(text)
        if told:
            steps = [float(v) for v in (*told["scale"], *told["offset"])]
            if len(steps) != 6 or not np.isfinite(steps).all() or 0 in steps[:3]:
                raise ValueError(steps)
        return dict(told)
    except (ValueError, KeyError, TypeError) as exc:
        raise InputError(
            f"{path} says in no way that can be read how its points are scaled",
            f"its metadata hold {text[:40]!r}",
            "fetch it again, or write it anew",
        ) from exc


def _opened(path: Path) -> Any:
    from pyarrow import parquet

    with _reading(path):
        return parquet.ParquetFile(path)


@dataclass(frozen=True, eq=False)
class ParquetSource:
    """A table of points; parts are its row groups."""

    path: Path
    names: tuple[str, ...]
    cloud: Cloud
    parts: tuple[Part, ...]

    def read(self, part: Part, fields: Fields | None = None) -> PointBlock:
        with _reading(self.path):
            table = _opened(self.path).read_row_group(part.number)
            columns: dict[str, Values] = {
                name: table.column(n).to_numpy()
                for n, name in enumerate(self.names)
                if name in self.cloud.layout.names
            }
        return block_of(columns, self.cloud.layout, self.cloud.scaling, self.path)


def make_sink(path: Path, new: NewFile) -> PointSink:
    """A sink of row groups."""
    schema = point_schema(new)
    return PointSink(_GROUP, PointTableEncoder(schema), PointTableStore(path, schema))


def point_schema(new: NewFile) -> Any:
    """The columns of a new file, its scaling and CRS."""
    import pyarrow

    names = new.columns or new.layout.names
    empty = PointBlock(np.zeros(0, new.layout.dtype), new.layout, new.scaling)
    plain = [n for n in names if empty.values(n).ndim == 1 and empty.values(n).dtype.kind in "iufb"]
    known = new.crs is not None and not isinstance(new.crs, UnresolvedCRS)
    facts = {
        "scale": new.scaling.scale, "offset": new.scaling.offset,
        "crs": write_crs(new.crs, "wkt2") if known and new.crs is not None else None,
    }  # fmt: skip
    columns = [(name, pyarrow.from_numpy_dtype(empty.values(name).dtype)) for name in plain]
    fields = fields_told(new.layout, plain)
    return pyarrow.schema(columns, {_KEY: json.dumps(facts).encode(), _FIELDS: fields.encode()})


def lacking(new: NewFile) -> tuple[str, ...]:
    """Values that the table does not hold."""
    return tuple(name for name in unheld(new.layout) if name in (new.columns or new.layout.names))


@dataclass(frozen=True)
class PointTableEncoder:
    """Tables of the columns of a schema."""

    schema: Any

    def encode(self, block: PointBlock) -> Any:
        import pyarrow

        columns = [pyarrow.array(block.values(name)) for name in self.schema.names]
        return pyarrow.table(columns, schema=self.schema)


class PointTableStore:
    """A table under way."""

    def __init__(self, path: Path, schema: Any) -> None:
        from pyarrow import parquet

        self._file = parquet.ParquetWriter(path, schema, compression="zstd")

    def append(self, encoded: Any) -> None:
        self._file.write_table(encoded, row_group_size=len(encoded))

    def finish(self) -> None:
        self._file.close()

    def abort(self) -> None:
        self._file.close()
