"""Reading GeoPackage feature tables.

Source: OGC GeoPackage Encoding Standard 1.3.1 (12-128r18), clauses 1.1, 2.1 and annex C; geometries in
the header of clause 2.1.3 around well-known binary.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from datetime import date, datetime
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from zembrel.errors import InputError, nearest_name
from zembrel.features.columns import column
from zembrel.features.depth import check_binary
from zembrel.features.files.geopackage.metadata import read_provenance
from zembrel.features.files.jsontext import BATCH
from zembrel.features.table import FeatureTable, Geometries
from zembrel.geodesy.crs import CRS
from zembrel.geodesy.registry import by_code
from zembrel.geodesy.text import read_crs
from zembrel.measure import show_bytes
from zembrel.reading import TRUST
from zembrel.sqlitefile import LONGEST, opened_for_reading

KEY = "fid"
_PART = 64_000_000  # bytes of the values that are held at a time, and those of one row more
_ENVELOPES = (0, 32, 48, 48, 64)  # bytes, by the indicator in the flags


@contextmanager
def _decoding(path: Path) -> Iterator[None]:
    """What SQLite cannot read, or is not what the standard says, is an error about `path`."""
    try:
        yield
    except (sqlite3.Error, ValueError, TypeError, OverflowError) as exc:
        raise _broken(path, exc) from exc


def layers(path: Path) -> list[str]:
    """Names of the feature tables of the GeoPackage at `path`. Raises InputError."""
    with closing(opened(path)) as file, _decoding(path):
        return [name for name, _, _ in layers_in(path, file)]


def names_in(path: Path) -> dict[str, bool]:
    """Every table and view of the GeoPackage at `path`, and whether it is a layer. Raises InputError."""
    with closing(opened(path)) as file, _decoding(path):
        found = file.execute("SELECT name FROM sqlite_master WHERE type IN ('table', 'view')").fetchall()
        held = file.execute("SELECT table_name FROM gpkg_geometry_columns").fetchall()
    shapes = {str(name) for (name,) in held}
    return {str(name): str(name) in shapes for (name,) in found}


def parts(path: Path, layer: str | None = None) -> Iterator[FeatureTable]:
    """The features of table `layer` (default: the first), some at a time. Raises InputError."""
    with closing(opened(path)) as file, _decoding(path):
        read_provenance(path, file)
        found_layers = layers_in(path, file)
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
            file.execute("BEGIN")  # all that follows sees one state of the file
            table = _Table(path, file, name, geometry, _crs(file, srs))
            cursor, before = file.execute(f"SELECT * FROM {quoted(name)}"), 0
            for rows in _batches(cursor):
                yield table.part(rows, before)
                before += len(rows)
            if not before:
                yield table.part([], 0)
        except sqlite3.Error as exc:
            raise _broken(path, exc, f"table {name}: ") from exc


def _batches(cursor: sqlite3.Cursor) -> Iterator[list[tuple[Any, ...]]]:
    """All rows, in lists whose texts and bytes fit into memory."""
    rows: list[tuple[Any, ...]] = []
    held = 0
    for row in cursor:
        rows.append(row)
        held += sum(len(value) for value in row if isinstance(value, bytes | str))
        if len(rows) == BATCH or held > _PART:
            yield rows
            rows, held = [], 0
    if rows:
        yield rows


class _Table:
    """What is said of a table of features: its columns, which tells rows apart, and which hold bytes."""

    def __init__(
        self, path: Path, file: sqlite3.Connection, name: str, geometry: str, crs: CRS | None
    ) -> None:
        self._path, self._geometry, self._crs = path, geometry, crs
        told = file.execute(f"PRAGMA table_info({quoted(name)})").fetchall()
        self._kinds = {str(row[1]): str(row[2]).upper() for row in told}
        self._key = _key(file, name)
        heads = file.execute(f"SELECT * FROM {quoted(name)} LIMIT 0").description
        self._fields = [str(entry[0]) for entry in heads]
        others = [field for field in self._fields if field not in (geometry, self._key)]
        looks = ", ".join(f"max(typeof({quoted(field)}) = 'blob')" for field in others) or "0"
        bytes_in = file.execute(f"SELECT {looks} FROM {quoted(name)}").fetchone()
        self._left = [field for field, some in zip(others, bytes_in, strict=False) if some]

    def part(self, rows: Sequence[tuple[Any, ...]], before: int) -> FeatureTable:
        """Some rows as features, of which so many came before."""
        values = zip(*rows, strict=True) if rows else ((),) * len(self._fields)
        held: dict[str, Any] = dict(zip(self._fields, values, strict=True))
        geometries = _geometries(self._path, held.pop(self._geometry, ()), before)
        ids = np.array(held[self._key], np.int64) if self._key in held else None
        columns = {
            field: column([_value(value, self._kinds.get(field, "")) for value in values])
            for field, values in held.items()
            if field not in self._left and not (field == self._key and field.lower() == KEY)
        }
        remarks = (f"binary fields left out: {', '.join(self._left)}",) if self._left else ()
        return FeatureTable(geometries, columns, self._crs, remarks, ids, self._key or "")


def _key(file: sqlite3.Connection, name: str) -> str | None:
    """The column of a table that tells its rows apart (clause 2.1.6.1)."""
    keys = [row for row in file.execute(f"PRAGMA table_info({quoted(name)})") if row[5]]
    return str(keys[0][1]) if len(keys) == 1 and str(keys[0][2]).upper() == "INTEGER" else None


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


def opened(path: Path) -> sqlite3.Connection:
    try:
        with path.open("rb") as head:
            mark = head.read(16)
    except OSError as exc:
        raise InputError(f"{path} cannot be read", exc.strerror or str(exc), "check the path") from exc
    if mark != b"SQLite format 3\0":
        raise _broken(path, f"it begins with {mark[:8]!r}")
    return opened_for_reading(path)


def layers_in(path: Path, file: sqlite3.Connection) -> list[tuple[str, str, int]]:
    try:
        rows = file.execute(
            "SELECT c.table_name, g.column_name, g.srs_id FROM gpkg_contents c JOIN gpkg_geometry_columns g "
            "ON g.table_name = c.table_name WHERE c.data_type = 'features' ORDER BY c.rowid"
        ).fetchall()
    except sqlite3.Error as exc:
        raise _broken(path, exc) from exc
    if not rows:
        raise _broken(path, "it holds no features")
    return [(str(name), str(column), int(srs)) for name, column, srs in rows]


def quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _geometries(path: Path, blobs: Sequence[Any], before: int) -> Geometries:
    bodies = np.empty(len(blobs), object)
    for number, blob in enumerate(blobs):
        if blob is None:
            continue
        try:
            if blob[:2] != b"GP":
                raise ValueError("no GeoPackage geometry")
            bodies[number] = bytes(blob[8 + _ENVELOPES[blob[3] >> 1 & 7] :])
        except (ValueError, IndexError, TypeError) as exc:
            raise _broken(path, f"feature {before + number + 1}: {exc}") from exc
    check_binary(path, bodies)
    made: Geometries = shapely.from_wkb(bodies, on_invalid="ignore") if len(bodies) else bodies
    bad = np.flatnonzero(
        [body is not None and shape is None for body, shape in zip(bodies, made, strict=True)]
    )
    if bad.size:
        raise _broken(path, f"feature {before + bad[0] + 1}: no well-known binary")
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


def _broken(path: Path, why: str | Exception, where: str = "") -> InputError:
    """The error about a file that is not what the standard says, or cannot be read for another reason."""
    code = getattr(why, "sqlite_errorcode", 0) & 0xFF
    if code == sqlite3.SQLITE_INTERRUPT:
        return InputError(
            f"{path} asks for more work than reading it takes",
            f"{where}a view or an index in it comes to no end",
            f"name a table of it with --layer, or {TRUST}",
        )
    if code == sqlite3.SQLITE_TOOBIG:
        limit = f"a value takes {show_bytes(LONGEST)} at most, and no more than the file"
        return InputError(f"{path} holds a value that is too long", f"{where}{limit}", TRUST)
    if code in (sqlite3.SQLITE_CANTOPEN, sqlite3.SQLITE_READONLY, sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED):
        return InputError(
            f"{path} is not whole without the file of changes beside it",
            f"another program has it open, or ended without putting them into it ({why})",
            "close it there, or open and close it there once",
        )
    return InputError(
        f"{path} is no sound GeoPackage", f"{where}{why}", "get the file again, or name another one"
    )
