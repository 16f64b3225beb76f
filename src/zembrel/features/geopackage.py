"""GeoPackage feature tables, by way of SQLite.

Source: OGC GeoPackage Encoding Standard 1.3.1 (12-128r18), clauses 1.1, 2.1 and annex C; geometries in
the header of clause 2.1.3 around well-known binary.
"""

from __future__ import annotations

import re
import sqlite3
import struct
from collections.abc import Mapping, Sequence
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import shapely

from zembrel.errors import InputError, nearest_name
from zembrel.features.table import FeatureTable
from zembrel.geodesy.crs import CRS
from zembrel.geodesy.registry import by_code
from zembrel.geodesy.text import read_crs, write_crs

ENDINGS = (".gpkg",)
APPLICATION_ID = 0x47504B47  # "GPKG"
USER_VERSION = 10301
_ENVELOPES = (0, 32, 48, 48, 64)  # bytes, by the indicator in the flags
_OWN_CODE = 100_000  # srs_id of a CRS without a code
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
"""


def layers_of(path: Path) -> list[str]:
    """Names of the feature tables of the GeoPackage at `path`. Raises InputError."""
    with closing(_opened(path)) as file:
        return [name for name, _, _ in _layers(path, file)]


def read_geopackage(path: Path, layer: str | None = None) -> FeatureTable:
    """The features of table `layer` (default: the first). Raises InputError."""
    with closing(_opened(path)) as file:
        layers = _layers(path, file)
        found = next((entry for entry in layers if layer in (None, entry[0])), None)
        if found is None:
            names = [name for name, _, _ in layers]
            raise InputError(
                f"{path} has no layer {layer!r}",
                f"it holds {', '.join(names) or 'no features'}",
                nearest_name(layer or "", names) if names else "check what the file is",
            )
        name, column, srs = found
        try:
            cursor = file.execute(f"SELECT * FROM {_quoted(name)}")
            fields = [entry[0] for entry in cursor.description]
            rows = cursor.fetchall()
        except sqlite3.Error as exc:
            raise _broken(path, f"table {name}: {exc}") from exc
        geometries, attributes = [], []
        for number, row in enumerate(rows, 1):
            facts = dict(zip(fields, row, strict=True))
            blob = facts.pop(column, None)
            if blob is None:
                continue
            geometries.append(_geometry(path, number, blob))
            attributes.append({key: value for key, value in facts.items() if not isinstance(value, bytes)})
        return FeatureTable(tuple(geometries), tuple(attributes), _crs(path, file, srs))


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


def _geometry(path: Path, number: int, blob: Any) -> shapely.Geometry:
    try:
        if blob[:2] != b"GP":
            raise ValueError("no GeoPackage geometry")
        start = 8 + _ENVELOPES[blob[3] >> 1 & 7]
        return shapely.from_wkb(bytes(blob[start:]))
    except (ValueError, IndexError, TypeError, shapely.errors.ShapelyError) as exc:
        raise _broken(path, f"feature {number}: {exc}") from exc


def _crs(path: Path, file: sqlite3.Connection, srs: int) -> CRS:
    row = file.execute(
        "SELECT organization, organization_coordsys_id, definition "
        "FROM gpkg_spatial_ref_sys WHERE srs_id = ?",
        (srs,),
    ).fetchone()
    if row is None or srs in (-1, 0):
        raise InputError(
            f"{path} does not say which CRS its features are in",
            f"srs_id {srs} is undefined",
            "mend it where it was made",
        )
    if str(row[0]).upper() == "EPSG":
        return by_code(int(row[1]))
    return read_crs(str(row[2]))


def _broken(path: Path, why: str) -> InputError:
    return InputError(f"{path} is no sound GeoPackage", why, "get the file again, or name another one")


def write_geopackage(path: Path, table: FeatureTable, name: str) -> None:
    """A new GeoPackage at `path` with `table` as its layer `name`."""
    kinds = {geometry.geom_type.upper() for geometry in table.geometries}
    kind = kinds.pop() if len(kinds) == 1 else "GEOMETRY"
    srs = table.crs.code or _OWN_CODE
    fields = _fields(table.attributes)
    with closing(sqlite3.connect(path)) as file, file:
        file.execute(f"PRAGMA application_id = {APPLICATION_ID}")
        file.execute(f"PRAGMA user_version = {USER_VERSION}")
        file.executescript(_TABLES)
        file.executemany(
            "INSERT INTO gpkg_spatial_ref_sys VALUES (?, ?, ?, ?, ?, ?)", _systems(table.crs, srs)
        )
        bounds = shapely.total_bounds(list(table.geometries)).tolist() if table.geometries else [None] * 4
        file.execute(
            "INSERT INTO gpkg_contents VALUES (?, 'features', ?, '', ?, ?, ?, ?, ?, ?)",
            (name, name, f"{datetime.now(UTC):%Y-%m-%dT%H:%M:%S.000Z}", *bounds, srs),
        )
        file.execute("INSERT INTO gpkg_geometry_columns VALUES (?, 'geom', ?, ?, 0, 0)", (name, kind, srs))
        columns = "".join(f", {_quoted(field)} {kind}" for field, kind in fields.items())
        key = "fid INTEGER PRIMARY KEY AUTOINCREMENT NOT NULL"
        file.execute(f"CREATE TABLE {_quoted(name)} ({key}, geom {kind}{columns})")
        marks = ", ".join("?" * (len(fields) + 1))
        names = "".join(f", {_quoted(field)}" for field in fields)
        file.executemany(
            f"INSERT INTO {_quoted(name)} (geom{names}) VALUES ({marks})",
            [
                (_blob(geometry, srs), *(_plain(row.get(field)) for field in fields))
                for geometry, row in zip(table.geometries, table.attributes, strict=True)
            ],
        )


def _fields(rows: Sequence[Mapping[str, Any]]) -> dict[str, str]:
    """Names and SQL types of all attributes; `fid` and `geom` are taken."""
    found: dict[str, str] = {}
    for row in rows:
        for name, value in row.items():
            kind = "INTEGER" if isinstance(value, int) else "REAL" if isinstance(value, float) else "TEXT"
            before = found.get(name, kind)
            numbers = {before, kind} == {"INTEGER", "REAL"}
            found[name] = kind if before == kind else "REAL" if numbers else "TEXT"
    return {name: kind for name, kind in found.items() if name.lower() not in ("fid", "geom")}


def _plain(value: Any) -> Any:
    return value if value is None or isinstance(value, int | float | str) else str(value)


def _blob(geometry: shapely.Geometry, srs: int) -> bytes:
    """Header of version 1 in little-endian order, with the envelope (x, x, y, y), and WKB."""
    empty = geometry.is_empty
    flags = 0b00010001 if empty else 0b00000011
    west, south, east, north = geometry.bounds if not empty else (0, 0, 0, 0)
    envelope = b"" if empty else struct.pack("<4d", west, east, south, north)
    head = struct.pack("<2sBBi", b"GP", 0, flags, srs)
    body: bytes = shapely.to_wkb(geometry, byte_order=1, flavor="iso")
    return head + envelope + body


def _systems(crs: CRS, srs: int) -> list[tuple[Any, ...]]:
    """The three rows every GeoPackage has, and that of `crs`."""
    degrees = by_code(4326)
    rows = [
        ("undefined Cartesian", -1, "NONE", -1, "undefined", None),
        ("undefined geographic", 0, "NONE", 0, "undefined", None),
        ("WGS 84", 4326, "EPSG", 4326, write_crs(degrees), None),
    ]
    if srs != 4326:
        organization = "EPSG" if crs.code else "NONE"
        rows.append((re.sub(r"\s+", " ", crs.name), srs, organization, srs, write_crs(crs), None))
    return rows
