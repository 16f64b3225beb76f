"""GeoPackage feature tables, by way of SQLite.

Source: OGC GeoPackage Encoding Standard 1.3.1 (12-128r18), clauses 1.1, 2.1 and annex C; geometries in
the header of clause 2.1.3 around well-known binary.
"""

from __future__ import annotations

import json
import re
import sqlite3
import struct
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from datetime import UTC, date, datetime
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from zembrel.errors import InputError, nearest_name
from zembrel.features.files.schema import Schema, alike
from zembrel.features.table import (
    DAY,
    INTEGER,
    MOMENT,
    NESTED,
    REAL,
    TEXT,
    TRUTH,
    FeatureTable,
    Geometries,
    column,
)
from zembrel.geodesy.crs import CRS
from zembrel.geodesy.registry import by_code
from zembrel.geodesy.text import read_crs, write_crs

KEY = "fid"
APPLICATION_ID = 0x47504B47  # "GPKG"
USER_VERSION = 10301
_ENVELOPES = (0, 32, 48, 48, 64)  # bytes, by the indicator in the flags
_OWN_CODE = 100_000  # srs_id of a CRS without a code
_UNDEFINED = -1
_TYPES = {
    INTEGER: "INTEGER", REAL: "REAL", TRUTH: "BOOLEAN", DAY: "DATE", MOMENT: "DATETIME", NESTED: "TEXT",
    TEXT: "TEXT",
}  # fmt: skip
_TABLES = """
CREATE TABLE gpkg_spatial_ref_sys (srs_name TEXT NOT NULL, srs_id INTEGER PRIMARY KEY,
  organization TEXT NOT NULL, organization_coordsys_id INTEGER NOT NULL, definition TEXT NOT NULL,
  description TEXT);
CREATE TABLE gpkg_contents (table_name TEXT NOT NULL PRIMARY KEY, data_type TEXT NOT NULL,
  identifier TEXT UNIQUE, description TEXT DEFAULT '', last_change DATETIME NOT NULL,
  min_x DOUBLE, min_y DOUBLE, max_x DOUBLE, max_y DOUBLE, srs_id INTEGER,
  CONSTRAINT fk_gc_r_srs_id FOREIGN KEY (srs_id) REFERENCES gpkg_spatial_ref_sys(srs_id));
CREATE TABLE gpkg_geometry_columns (table_name TEXT NOT NULL, column_name TEXT NOT NULL,
  geometry_type_name TEXT NOT NULL, srs_id INTEGER NOT NULL, z TINYINT NOT NULL, m TINYINT NOT NULL,
  CONSTRAINT pk_geom_cols PRIMARY KEY (table_name, column_name),
  CONSTRAINT uk_gc_table_name UNIQUE (table_name),
  CONSTRAINT fk_gc_tn FOREIGN KEY (table_name) REFERENCES gpkg_contents(table_name),
  CONSTRAINT fk_gc_srs FOREIGN KEY (srs_id) REFERENCES gpkg_spatial_ref_sys (srs_id));
CREATE TABLE gpkg_extensions (table_name TEXT, column_name TEXT, extension_name TEXT NOT NULL,
  definition TEXT NOT NULL, scope TEXT NOT NULL,
  CONSTRAINT ge_tce UNIQUE (table_name, column_name, extension_name));
"""


@contextmanager
def _decoding(path: Path) -> Iterator[None]:
    """What SQLite cannot read, or is not what the standard says, is an error about `path`."""
    try:
        yield
    except (sqlite3.Error, ValueError, TypeError, OverflowError) as exc:
        raise _broken(path, f"{exc}") from exc


def is_ours(path: Path) -> bool:
    return True


def layers(path: Path) -> list[str]:
    """Names of the feature tables of the GeoPackage at `path`. Raises InputError."""
    with closing(_opened(path)) as file, _decoding(path):
        return [name for name, _, _ in _layers(path, file)]


def read(path: Path, layer: str | None = None) -> FeatureTable:
    """The features of table `layer` (default: the first). Raises InputError."""
    with closing(_opened(path)) as file, _decoding(path):
        found_layers = _layers(path, file)
        found = next((entry for entry in found_layers if layer in (None, entry[0])), None)
        if found is None:
            names = [name for name, _, _ in found_layers]
            raise InputError(
                f"{path} has no layer {layer!r}",
                f"it holds {', '.join(names) or 'no features'}",
                nearest_name(layer or "", names) if names else "check what the file is",
            )
        name, geometry, srs = found
        try:
            kinds = {
                str(row[1]): str(row[2]).upper()
                for row in file.execute(f"PRAGMA table_info({_quoted(name)})")
            }
            cursor = file.execute(f"SELECT * FROM {_quoted(name)}")
            fields = [entry[0] for entry in cursor.description]
            rows = cursor.fetchall()
        except sqlite3.Error as exc:
            raise _broken(path, f"table {name}: {exc}") from exc
        held = dict(zip(fields, zip(*rows, strict=True), strict=True)) if rows else dict.fromkeys(fields, ())
        geometries = _geometries(path, held.pop(geometry, ()))
        columns, left = {}, []
        for field, values in held.items():
            if field.lower() == KEY:
                continue
            if any(isinstance(value, bytes) for value in values):
                left.append(field)
            else:
                columns[field] = column([_value(value, kinds.get(field, "")) for value in values])
        remarks = (f"binary fields left out: {', '.join(left)}",) if left else ()
        return FeatureTable(geometries, columns, _crs(file, srs), remarks)


def _value(value: Any, kind: str) -> Any:
    """A value as what its column is declared to hold; what is not so stays as it is."""
    if value is None:
        return None
    if kind == "BOOLEAN" and value in (0, 1):
        return bool(value)
    try:
        if kind == "DATE":
            return date.fromisoformat(value)
        if kind == "DATETIME":
            return datetime.fromisoformat(value.replace("Z", "+00:00"))
    except (ValueError, TypeError, AttributeError):
        return value
    return float(value) if kind in ("REAL", "DOUBLE", "FLOAT") and isinstance(value, int) else value


def _opened(path: Path) -> sqlite3.Connection:
    try:
        with path.open("rb") as head:
            mark = head.read(16)
    except OSError as exc:
        raise InputError(f"{path} cannot be read", exc.strerror or str(exc), "check the path") from exc
    if mark != b"SQLite format 3\0":
        raise _broken(path, f"it begins with {mark[:8]!r}")
    return sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro&immutable=1", uri=True)


def _layers(path: Path, file: sqlite3.Connection) -> list[tuple[str, str, int]]:
    try:
        rows = file.execute(
            "SELECT c.table_name, g.column_name, g.srs_id FROM gpkg_contents c JOIN gpkg_geometry_columns g "
            "ON g.table_name = c.table_name WHERE c.data_type = 'features' ORDER BY c.rowid"
        ).fetchall()
    except sqlite3.Error as exc:
        raise _broken(path, str(exc)) from exc
    if not rows:
        raise _broken(path, "it holds no features")
    return [(str(name), str(column), int(srs)) for name, column, srs in rows]


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _geometries(path: Path, blobs: Sequence[Any]) -> Geometries:
    bodies = np.empty(len(blobs), object)
    for number, blob in enumerate(blobs):
        if blob is None:
            continue
        try:
            if blob[:2] != b"GP":
                raise ValueError("no GeoPackage geometry")
            bodies[number] = bytes(blob[8 + _ENVELOPES[blob[3] >> 1 & 7] :])
        except (ValueError, IndexError, TypeError) as exc:
            raise _broken(path, f"feature {number + 1}: {exc}") from exc
    made: Geometries = shapely.from_wkb(bodies, on_invalid="ignore") if len(bodies) else bodies
    bad = np.flatnonzero(
        [body is not None and shape is None for body, shape in zip(bodies, made, strict=True)]
    )
    if bad.size:
        raise _broken(path, f"feature {bad[0] + 1}: no well-known binary")
    return made


def _crs(file: sqlite3.Connection, srs: int) -> CRS | None:
    row = file.execute(
        "SELECT organization, organization_coordsys_id, definition "
        "FROM gpkg_spatial_ref_sys WHERE srs_id = ?",
        (srs,),
    ).fetchone()
    if row is None or srs in (-1, 0):
        return None
    if str(row[0]).upper() == "EPSG":
        return by_code(int(row[1]))
    return read_crs(str(row[2]))


def _broken(path: Path, why: str) -> InputError:
    return InputError(f"{path} is no sound GeoPackage", why, "get the file again, or name another one")


def make_writer(path: Path, schema: Schema) -> GeoPackageWriter:
    return GeoPackageWriter(path, schema)


class GeoPackageWriter:
    """Rows and their boxes in the spatial index, table by table; one transaction."""

    def __init__(self, path: Path, schema: Schema) -> None:
        self._schema = schema
        self._srs = _UNDEFINED if schema.crs is None else schema.crs.code or _OWN_CODE
        self._names = {name: _free(name) for name in schema.fields}
        self._count, self._bounds = 0, np.array([np.inf, np.inf, -np.inf, -np.inf])
        self._file = file = sqlite3.connect(path, isolation_level=None)
        for text in ("journal_mode = OFF", "synchronous = OFF"):  # what is not whole is thrown away
            file.execute(f"PRAGMA {text}")
        file.execute(f"PRAGMA application_id = {APPLICATION_ID}")
        file.execute(f"PRAGMA user_version = {USER_VERSION}")
        file.executescript(_TABLES)
        file.execute("BEGIN")
        systems = _systems(schema.crs, self._srs)
        file.executemany("INSERT INTO gpkg_spatial_ref_sys VALUES (?, ?, ?, ?, ?, ?)", systems)
        table, kind = _quoted(schema.name), schema.kind.upper()
        columns = "".join(f", {_quoted(self._names[n])} {_TYPES[f.kind]}" for n, f in schema.fields.items())
        file.execute(
            f"CREATE TABLE {table} ({KEY} INTEGER PRIMARY KEY AUTOINCREMENT NOT NULL, geom {kind}{columns})"
        )
        file.execute(f"CREATE VIRTUAL TABLE {self._index} USING rtree(id, minx, maxx, miny, maxy)")
        marks = ", ".join("?" * (len(schema.fields) + 2))
        self._insert = f"INSERT INTO {table} VALUES ({marks})"

    @property
    def _index(self) -> str:
        return _quoted(f"rtree_{self._schema.name}_geom")

    def add(self, table: FeatureTable) -> None:
        shapes = alike(table.geometries, self._schema.kind)
        bounds = shapely.bounds(shapes)
        ids = range(self._count + 1, self._count + len(table) + 1)
        lists = [_plain_list(table.columns[name], field.kind) for name, field in self._schema.fields.items()]
        self._file.executemany(self._insert, zip(ids, _blobs(shapes, bounds, self._srs), *lists, strict=True))
        placed = np.isfinite(bounds).all(axis=1)
        west, south, east, north = bounds[placed].T
        boxes = np.column_stack([np.array(ids)[placed], west, east, south, north]).tolist()
        self._file.executemany(f"INSERT INTO {self._index} VALUES (?, ?, ?, ?, ?)", boxes)
        self._count += len(table)
        if placed.any():
            self._bounds[:2] = np.minimum(self._bounds[:2], bounds[placed][:, :2].min(axis=0))
            self._bounds[2:] = np.maximum(self._bounds[2:], bounds[placed][:, 2:].max(axis=0))

    def finish(self) -> tuple[str, ...]:
        file, schema = self._file, self._schema
        bounds = self._bounds.tolist() if np.isfinite(self._bounds).all() else [None] * 4
        file.execute(
            "INSERT INTO gpkg_contents VALUES (?, 'features', ?, '', ?, ?, ?, ?, ?, ?)",
            (schema.name, schema.name, f"{datetime.now(UTC):%Y-%m-%dT%H:%M:%S.000Z}", *bounds, self._srs),
        )
        file.execute(
            "INSERT INTO gpkg_geometry_columns VALUES (?, 'geom', ?, ?, ?, 0)",
            (schema.name, schema.kind.upper(), self._srs, 2 if schema.heights else 0),
        )
        file.execute(
            "INSERT INTO gpkg_extensions VALUES (?, 'geom', 'gpkg_rtree_index', ?, 'write-only')",
            (schema.name, "http://www.geopackage.org/spec120/#extension_rtree"),
        )
        for statement in _triggers(schema.name):
            file.execute(statement)
        file.execute("COMMIT")
        file.close()
        return tuple(f"{old} is called {new}" for old, new in self._names.items() if old != new)

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
    table, index = _quoted(layer), _quoted(f"rtree_{layer}_geom")
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
        trigger = _quoted(f"rtree_{layer}_geom_{name}")
        yield f"CREATE TRIGGER {trigger} {event} ON {table} WHEN {condition} BEGIN {act} END"


def _systems(crs: CRS | None, srs: int) -> list[tuple[Any, ...]]:
    """The three rows every GeoPackage has, and that of `crs`."""
    degrees = by_code(4326)
    rows = [
        ("undefined Cartesian", -1, "NONE", -1, "undefined", None),
        ("undefined geographic", 0, "NONE", 0, "undefined", None),
        ("WGS 84", 4326, "EPSG", 4326, write_crs(degrees), None),
    ]
    if crs is not None and srs != 4326:
        organization = "EPSG" if crs.code else "NONE"
        rows.append((re.sub(r"\s+", " ", crs.name), srs, organization, srs, write_crs(crs), None))
    return rows
