"""Writing GeoPackage feature tables: into a new file, or beside the layers of one that stands."""

from __future__ import annotations

import json
import sqlite3
import struct
from collections.abc import Iterator
from contextlib import closing
from datetime import UTC, date, datetime
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from zembrel.clock import time_of_writing
from zembrel.errors import InputError
from zembrel.facts import Fact, fact
from zembrel.features.columns import DAY, INTEGER, MOMENT, NESTED, REAL, TEXT, TRUTH
from zembrel.features.files.geopackage.gpkgreading import KEY, quoted
from zembrel.features.files.geopackage.metadata import write_provenance
from zembrel.features.files.geopackage.systems import system_of
from zembrel.features.files.schema import Schema, alike
from zembrel.features.table import FeatureTable, Geometries

APPLICATION_ID = 0x47504B47  # "GPKG"
USER_VERSION = 10301
_TYPES = {
    INTEGER: "INTEGER", REAL: "REAL", TRUTH: "BOOLEAN", DAY: "DATE", MOMENT: "DATETIME", NESTED: "TEXT",
    TEXT: "TEXT",
}  # fmt: skip
_TABLES = """
CREATE TABLE IF NOT EXISTS gpkg_spatial_ref_sys (srs_name TEXT NOT NULL, srs_id INTEGER PRIMARY KEY,
  organization TEXT NOT NULL, organization_coordsys_id INTEGER NOT NULL, definition TEXT NOT NULL,
  description TEXT);
CREATE TABLE IF NOT EXISTS gpkg_contents (table_name TEXT NOT NULL PRIMARY KEY, data_type TEXT NOT NULL,
  identifier TEXT UNIQUE, description TEXT DEFAULT '', last_change DATETIME NOT NULL,
  min_x DOUBLE, min_y DOUBLE, max_x DOUBLE, max_y DOUBLE, srs_id INTEGER,
  CONSTRAINT fk_gc_r_srs_id FOREIGN KEY (srs_id) REFERENCES gpkg_spatial_ref_sys(srs_id));
CREATE TABLE IF NOT EXISTS gpkg_geometry_columns (table_name TEXT NOT NULL, column_name TEXT NOT NULL,
  geometry_type_name TEXT NOT NULL, srs_id INTEGER NOT NULL, z TINYINT NOT NULL, m TINYINT NOT NULL,
  CONSTRAINT pk_geom_cols PRIMARY KEY (table_name, column_name),
  CONSTRAINT uk_gc_table_name UNIQUE (table_name),
  CONSTRAINT fk_gc_tn FOREIGN KEY (table_name) REFERENCES gpkg_contents(table_name),
  CONSTRAINT fk_gc_srs FOREIGN KEY (srs_id) REFERENCES gpkg_spatial_ref_sys (srs_id));
CREATE TABLE IF NOT EXISTS gpkg_extensions (table_name TEXT, column_name TEXT, extension_name TEXT NOT NULL,
  definition TEXT NOT NULL, scope TEXT NOT NULL,
  CONSTRAINT ge_tce UNIQUE (table_name, column_name, extension_name));
"""
_SCHEMA_TABLES = """
CREATE TABLE IF NOT EXISTS gpkg_data_columns (table_name TEXT NOT NULL, column_name TEXT NOT NULL,
  name TEXT, title TEXT, description TEXT, mime_type TEXT, constraint_name TEXT,
  CONSTRAINT pk_gdc PRIMARY KEY (table_name, column_name),
  CONSTRAINT gdc_tn UNIQUE (table_name, name));
CREATE TABLE IF NOT EXISTS gpkg_data_column_constraints (constraint_name TEXT NOT NULL,
  constraint_type TEXT NOT NULL, value TEXT, min NUMERIC, min_is_inclusive BOOLEAN, max NUMERIC,
  max_is_inclusive BOOLEAN, description TEXT,
  CONSTRAINT gdcc_ntv UNIQUE (constraint_name, constraint_type, value));
"""


def take_over(source: Path, path: Path, without: str) -> None:
    """Copy the GeoPackage `source` to `path`, all but its layer `without`. Raises InputError."""
    try:
        with (
            closing(sqlite3.connect(f"{source.resolve().as_uri()}?mode=ro", uri=True)) as old,
            closing(sqlite3.connect(path, isolation_level=None)) as new,
        ):
            old.backup(new)
            new.execute("PRAGMA journal_mode = DELETE")
            _drop(new, without)
    except sqlite3.OperationalError:
        raise  # of the disk
    except sqlite3.Error as exc:
        raise InputError(
            f"{source} is no sound GeoPackage", f"{exc}", "write to another file, or get this one again"
        ) from exc


def _drop(file: sqlite3.Connection, layer: str) -> None:
    """Remove a layer with its index and all that tables of the standard say of it."""
    named = {str(name) for (name,) in file.execute("SELECT name FROM sqlite_master WHERE type = 'table'")}
    if layer not in named:
        return
    file.execute("BEGIN")
    for (column,) in file.execute(
        "SELECT column_name FROM gpkg_geometry_columns WHERE table_name = ?", (layer,)
    ).fetchall():
        file.execute(f"DROP TABLE IF EXISTS {quoted(f'rtree_{layer}_{column}')}")
    for table in ("gpkg_geometry_columns", "gpkg_extensions", "gpkg_data_columns", "gpkg_contents"):
        if table in named:
            file.execute(f"DELETE FROM {table} WHERE table_name = ?", (layer,))
    file.execute(f"DROP TABLE {quoted(layer)}")
    file.execute("COMMIT")


class GeoPackageWriter:
    """Rows and their boxes in the spatial index, table by table; one transaction."""

    def __init__(self, path: Path, schema: Schema) -> None:
        self._schema = schema
        self._names = {name: _free(name) for name in schema.fields}
        self._next, self._used = 1, set[int]()
        self._bounds = np.array([np.inf, np.inf, -np.inf, -np.inf])
        stands = path.exists()
        self._file = file = sqlite3.connect(path, isolation_level=None)
        for text in ("journal_mode = OFF", "synchronous = OFF"):  # what is not whole is thrown away
            file.execute(f"PRAGMA {text}")
        if not stands:
            file.execute(f"PRAGMA application_id = {APPLICATION_ID}")
            file.execute(f"PRAGMA user_version = {USER_VERSION}")
        file.executescript(_TABLES)
        file.execute("BEGIN")
        self._srs = system_of(file, schema.crs)
        table, kind = quoted(schema.name), schema.kind.upper()
        columns = "".join(f", {quoted(self._names[n])} {_TYPES[f.kind]}" for n, f in schema.fields.items())
        file.execute(
            f"CREATE TABLE {table} ({KEY} INTEGER PRIMARY KEY AUTOINCREMENT NOT NULL, geom {kind}{columns})"
        )
        file.execute(f"CREATE VIRTUAL TABLE {self._index} USING rtree(id, minx, maxx, miny, maxy)")
        marks = ", ".join("?" * (len(schema.fields) + 2))
        self._insert = f"INSERT INTO {table} VALUES ({marks})"

    @property
    def _index(self) -> str:
        return quoted(f"rtree_{self._schema.name}_geom")

    def add(self, table: FeatureTable) -> None:
        shapes = alike(table.geometries, self._schema.kind)
        bounds = shapely.bounds(shapes)
        ids = self._ids(table)
        lists = [_plain_list(table.columns[name], field.kind) for name, field in self._schema.fields.items()]
        self._file.executemany(self._insert, zip(ids, _blobs(shapes, bounds, self._srs), *lists, strict=True))
        placed = np.isfinite(bounds).all(axis=1)
        west, south, east, north = bounds[placed].T
        boxes = np.column_stack([np.array(ids)[placed], west, east, south, north]).tolist()
        self._file.executemany(f"INSERT INTO {self._index} VALUES (?, ?, ?, ?, ?)", boxes)
        if placed.any():
            self._bounds[:2] = np.minimum(self._bounds[:2], bounds[placed][:, :2].min(axis=0))
            self._bounds[2:] = np.maximum(self._bounds[2:], bounds[placed][:, 2:].max(axis=0))

    def _ids(self, table: FeatureTable) -> list[int]:
        """The features' own ids where they are whole numbers that nobody has yet, else the next ones."""
        own = table.ids.tolist() if table.ids is not None and table.ids.dtype.kind == "i" else None
        if own is None or len(set(own)) < len(own) or not self._used.isdisjoint(own):
            own = list(range(self._next, self._next + len(table)))
        self._used.update(own)
        self._next = max([self._next - 1, *own]) + 1
        return own

    def finish(self) -> tuple[Fact, ...]:
        file, schema = self._file, self._schema
        bounds = self._bounds.tolist() if np.isfinite(self._bounds).all() else [None] * 4
        file.execute(
            "INSERT INTO gpkg_contents VALUES (?, 'features', ?, '', ?, ?, ?, ?, ?, ?)",
            (schema.name, schema.name, f"{time_of_writing():%Y-%m-%dT%H:%M:%S.000Z}", *bounds, self._srs),
        )
        file.execute(
            "INSERT INTO gpkg_geometry_columns VALUES (?, 'geom', ?, ?, ?, 0)",
            (schema.name, schema.kind.upper(), self._srs, 2 if schema.heights else 0),
        )
        file.execute(
            "INSERT INTO gpkg_extensions VALUES (?, 'geom', 'gpkg_rtree_index', ?, 'write-only')",
            (schema.name, "http://www.geopackage.org/spec120/#extension_rtree"),
        )
        if schema.classes:
            _tell_classes(file, schema)
        for statement in _triggers(schema.name):
            file.execute(statement)
        write_provenance(file, schema.name)
        file.execute("COMMIT")
        file.close()
        return tuple(fact("renamed", old=old, new=new) for old, new in self._names.items() if old != new)

    def abort(self) -> None:
        self._file.close()


def _free(name: str) -> str:
    """`fid` and `geom` are taken."""
    return f"{name}_" if name.lower() in (KEY, "geom") else name


def _plain_list(values: Any, kind: str) -> list[Any]:
    """Values as SQLite holds them."""
    if values.dtype.kind == "f":
        return [None if value != value else value for value in values.tolist()]
    if kind in (INTEGER, REAL, TRUTH):
        return [int(value) if isinstance(value, bool) else value for value in values.tolist()]
    return [None if value is None else _worded(value) for value in values.tolist()]


def _worded(value: Any) -> str:
    if isinstance(value, datetime):
        moment = value.astimezone(UTC) if value.tzinfo else value
        return moment.strftime("%Y-%m-%dT%H:%M:%S.") + f"{moment.microsecond // 1000:03}Z"
    if isinstance(value, date):
        return value.isoformat()
    return json.dumps(value) if isinstance(value, list | dict) else str(value)


def _blobs(shapes: Geometries, bounds: Any, srs: int) -> Iterator[bytes | None]:
    """Headers of version 1 in little-endian order, with envelopes (x, x, y, y), and WKB."""
    bodies = shapely.to_wkb(shapes, byte_order=1, flavor="iso").tolist()
    plain, empty = (struct.pack("<2sBBi", b"GP", 0, flags, srs) for flags in (0b00000011, 0b00010001))
    envelopes = np.ascontiguousarray(bounds[:, [0, 2, 1, 3]], "<f8").tobytes()
    for number, body in enumerate(bodies):
        if body is None:
            yield None
        elif bounds[number, 0] != bounds[number, 0]:
            yield empty + body
        else:
            yield plain + envelopes[32 * number : 32 * number + 32] + body


def _triggers(layer: str) -> Iterator[str]:
    """What keeps the index true when another program changes the table: annex F.3 of the standard."""
    table, index = quoted(layer), quoted(f"rtree_{layer}_geom")
    values = f"NEW.{KEY}, ST_MinX(NEW.geom), ST_MaxX(NEW.geom), ST_MinY(NEW.geom), ST_MaxY(NEW.geom)"
    put = f"INSERT OR REPLACE INTO {index} VALUES ({values});"
    gone = f"DELETE FROM {index} WHERE id = OLD.{KEY};"
    both = f"DELETE FROM {index} WHERE id IN (OLD.{KEY}, NEW.{KEY});"
    full = "(NEW.geom NOTNULL AND NOT ST_IsEmpty(NEW.geom))"
    none = "(NEW.geom ISNULL OR ST_IsEmpty(NEW.geom))"
    same, other = f"OLD.{KEY} = NEW.{KEY}", f"OLD.{KEY} != NEW.{KEY}"
    for name, event, condition, act in (
        ("insert", "AFTER INSERT", full, put),
        ("update1", "AFTER UPDATE OF geom", f"{same} AND {full}", put),
        ("update2", "AFTER UPDATE OF geom", f"{same} AND {none}", gone),
        ("update3", "AFTER UPDATE", f"{other} AND {full}", f"{gone} {put}"),
        ("update4", "AFTER UPDATE", f"{other} AND {none}", both),
        ("delete", "AFTER DELETE", "OLD.geom NOT NULL", gone),
    ):
        trigger = quoted(f"rtree_{layer}_geom_{name}")
        yield f"CREATE TRIGGER {trigger} {event} ON {table} WHEN {condition} BEGIN {act} END"


def _tell_classes(file: sqlite3.Connection, schema: Schema) -> None:
    """What the codes of fields mean: enumerations of annex F.9."""
    for statement in _SCHEMA_TABLES.split(";"):  # one by one: a script would end the transaction
        file.execute(statement)
    for field, classes in schema.classes.items():
        name = f"{schema.name}_{field}"
        file.execute("DELETE FROM gpkg_data_column_constraints WHERE constraint_name = ?", (name,))
        file.execute(
            "INSERT INTO gpkg_data_columns (table_name, column_name, constraint_name) VALUES (?, ?, ?)",
            (schema.name, field, name),
        )
        file.executemany(
            "INSERT INTO gpkg_data_column_constraints (constraint_name, constraint_type, value, description) "
            "VALUES (?, 'enum', ?, ?)",
            [(name, f"{code}", word) for code, word in classes],
        )
    told = {str(table) for (table,) in file.execute(
        "SELECT table_name FROM gpkg_extensions WHERE extension_name = 'gpkg_schema'"
    )}  # fmt: skip
    for table in ("gpkg_data_columns", "gpkg_data_column_constraints"):
        if table not in told:
            file.execute(
                "INSERT INTO gpkg_extensions VALUES (?, NULL, 'gpkg_schema', ?, 'read-write')",
                (table, "http://www.geopackage.org/spec121/#extension_schema"),
            )
