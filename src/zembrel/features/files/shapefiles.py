"""Shapefiles, by way of the pyshp package: the .shp with its .shx, .dbf, .prj and .cpg.

Source: "Shapefile Technical Description" (July 1998); dBASE III. Outer rings run clockwise. Texts are
UTF-8 when written; when read, what the .cpg says, else UTF-8 or Windows 1252.
"""

from __future__ import annotations

import struct
import warnings
from collections.abc import Iterator
from datetime import date
from pathlib import Path
from typing import Any

import shapely

from zembrel.errors import InputError, RefusedError
from zembrel.features.files.schema import Schema
from zembrel.features.table import DAY, INTEGER, REAL, TRUTH, FeatureTable
from zembrel.geodesy.crs import CRS
from zembrel.geodesy.text import read_crs, write_crs
from zembrel.reading import readings

_TYPES = {"Point": 1, "LineString": 3, "LinearRing": 3, "Polygon": 5, "MultiPoint": 8}
_WITH_HEIGHTS = 10  # more than the plain type
_INTEGER, _REAL, _DECIMALS, _WORDS, _NAME = 19, 33, 15, 254, 10  # widths of fields
_BYTES = "latin-1"
_BROKEN = (struct.error, OSError, ValueError, LookupError, EOFError, TypeError, OverflowError)
_CODE_PAGES = {"88591": "latin-1", "1252": "cp1252", "utf8": "utf-8", "utf-8": "utf-8", "850": "cp850"}


def is_ours(path: Path) -> bool:
    return True


def layers(path: Path) -> list[str]:
    return [path.stem]


def read(path: Path, layer: str | None = None) -> FeatureTable:
    """The features of the Shapefile at `path`. Raises InputError if a part is missing or broken."""
    remarks = []
    said = _code_page(path)
    with warnings.catch_warnings(record=True) as told:
        warnings.simplefilter("always")
        geometries, raw, orphans = _parts(path)
    remarks += [f"{orphans:,} holes outside of any area are taken as areas"] if orphans else []
    remarks += ["its headers are not true to its size"] if told else []
    try:
        rows = _decoded(raw, said or "utf-8")
        if said is None and rows != raw:
            remarks.append("texts taken as UTF-8: there is no .cpg")
    except UnicodeDecodeError as exc:
        if said is not None:
            raise InputError(
                f"{path.with_suffix('.dbf')} holds no {said}",
                f"its .cpg says so, but {exc.reason}",
                "mend the .cpg",
            ) from exc
        rows = _decoded(raw, "cp1252")
        remarks.append("texts taken as Windows 1252: there is no .cpg, and they are no UTF-8")
    crs = crs_of_prj(path)
    if crs is None:
        remarks.append("there is no .prj: its CRS is unknown")
    return FeatureTable.of(geometries, rows, crs, *remarks)


def _code_page(path: Path) -> str | None:
    import codecs

    beside = path.with_suffix(".cpg")
    if not beside.is_file():
        return None
    said = readings.note(beside).read_text("latin-1").strip().lower()
    plain = said.removeprefix("ansi").removeprefix("oem").removeprefix("iso").strip(" -_")
    for name in (_CODE_PAGES.get(plain.replace("-", "").replace(" ", "")), said, f"cp{plain}", f"iso{plain}"):
        try:
            if name:
                return codecs.lookup(name).name
        except (LookupError, ValueError):
            continue
    raise InputError(
        f"{beside} names {said!r}", "no encoding is called so", "write UTF-8 or another name into it"
    )


def _decoded(rows: list[dict[str, Any]], encoding: str) -> list[dict[str, Any]]:
    """Rows whose texts stand for bytes as those in `encoding`. Raises UnicodeDecodeError."""

    def text(value: Any) -> Any:
        return value.encode(_BYTES).decode(encoding) if isinstance(value, str) else value

    return [{text(name): text(value) for name, value in row.items()} for row in rows]


def _parts(path: Path) -> tuple[list[Any], list[dict[str, Any]], int]:
    """Geometries, rows whose texts are bytes, a letter each, and how many holes lie outside of any area."""
    import shapefile

    table = path.with_suffix(".dbf")
    if not table.is_file():
        raise InputError(
            f"{table} is missing", "it holds the attributes of the features", "put it beside the .shp"
        )
    try:
        with path.open("rb") as shapes, table.open("rb") as records:
            reader = shapefile.Reader(shp=shapes, dbf=records, encoding=_BYTES)
            names = [entry[0] for entry in reader.fields if entry[0] != "DeletionFlag"]
            shapefile.VERBOSE = False  # what it would say on stderr is a remark
            shapes_read = list(reader.iterShapes())
            geometries = [_geometry(path, n, shape) for n, shape in enumerate(shapes_read, 1)]
            orphans = sum(sum(shape._errors.values()) for shape in shapes_read)
            records_read = (record for record in reader.iterRecords() if record is not None)
            rows = [{n: v if v != "" else None for n, v in zip(names, r, strict=True)} for r in records_read]
    except (shapefile.ShapefileException, *_BROKEN) as exc:
        raise InputError(
            f"{path} is broken", f"{exc}".splitlines()[0] or type(exc).__name__, "get it again"
        ) from exc
    if len(geometries) != len(rows):
        raise InputError(
            f"{path} and its .dbf do not belong together",
            f"{len(geometries):,} shapes and {len(rows):,} rows of attributes",
            "get both again",
        )
    return geometries, rows, orphans


def _geometry(path: Path, number: int, shape: Any) -> shapely.Geometry | None:
    from shapely.geometry import shape as made

    kind = shape.shapeType
    if kind == 0:
        return None
    if kind == 31:
        raise InputError(
            f"{path} holds a multipatch", f"feature {number} is a body, no area", "convert it first"
        )
    if kind % 10 == 1 and kind > 10:
        return shapely.Point(*shape.points[0][:2], shape.z[0])
    found = made(shape.__geo_interface__)
    if 10 < kind < 20:  # heights are apart from the points
        heights = dict(zip(((x, y) for x, y, *_ in shape.points), shape.z, strict=True))
        found = shapely.transform(found, lambda points: _raised(points, heights))
    return found


def _raised(points: Any, heights: dict[tuple[float, float], float]) -> list[tuple[float, float, float]]:
    return [(x, y, heights[x, y]) for x, y in points[:, :2].tolist()]


def crs_of_prj(path: Path) -> CRS | None:
    """The CRS of the .prj beside `path`, or None if there is none. Raises InputError."""
    beside = path.with_suffix(".prj")
    if not beside.is_file():
        return None
    text = readings.note(beside).read_text("utf-8", errors="replace").strip()
    return read_crs(text) if text else None


def make_writer(path: Path, schema: Schema) -> ShapefileWriter:
    """Raises RefusedError for geometries of several kinds."""
    return ShapefileWriter(path, schema)


class ShapefileWriter:
    """Shapes and rows, one by one."""

    def __init__(self, path: Path, schema: Schema) -> None:
        import shapefile

        plain = "MultiPoint" if schema.kind == "MultiPoint" else schema.kind.removeprefix("Multi")
        if plain not in _TYPES:
            raise RefusedError(
                f"{path.name} cannot hold points, lines and polygons together",
                "a Shapefile holds one kind",
                "end --out in .gpkg, or pick one kind with --where",
            )
        self._path, self._schema, self._plain, self._lost = path, schema, plain, dict[str, int]()
        self._names = _names(schema)
        kind = _TYPES[plain] + _WITH_HEIGHTS * schema.heights
        self._writer = shapefile.Writer(str(path), shapeType=kind, encoding="utf-8")
        for name, field in zip(self._names, schema.fields.values(), strict=True):
            if field.kind == INTEGER:
                self._writer.field(name, "N", _INTEGER, 0)
            elif field.kind == REAL:
                self._writer.field(name, "N", _REAL, _DECIMALS)
            elif field.kind in (TRUTH, DAY):
                self._writer.field(name, "L" if field.kind == TRUTH else "D")
            else:
                self._writer.field(name, "C", max(1, min(field.width or _WORDS, _WORDS)))

    def add(self, table: FeatureTable) -> None:
        shapes = shapely.orient_polygons(table.geometries, exterior_cw=True)
        for geometry, row in zip(shapes, table.rows(), strict=True):
            self._put(geometry)
            kinds = (field.kind for field in self._schema.fields.values())
            self._writer.record(*(self._held(n, v, k) for (n, v), k in zip(row.items(), kinds, strict=True)))

    def _put(self, geometry: shapely.Geometry | None) -> None:
        if geometry is None or geometry.is_empty:
            self._writer.null()
            return
        heights = self._schema.heights
        parts = [shapely.get_coordinates(part, include_z=heights).tolist() for part in _lines(geometry)]
        after = "z" if heights else ""
        if self._plain == "Point":
            getattr(self._writer, f"point{after}")(*parts[0][0])
        elif self._plain == "MultiPoint":
            getattr(self._writer, f"multipoint{after}")([part[0] for part in parts])
        else:
            getattr(self._writer, ("poly" if self._plain == "Polygon" else "line") + after)(parts)

    def _held(self, name: str, value: Any, kind: str) -> Any:
        """`value` as its field holds it; what changes is counted."""
        if value is None:
            return None if kind in (INTEGER, REAL, TRUTH, DAY) else ""
        if kind in (TRUTH, DAY):
            return value
        if kind == INTEGER:
            return value
        if kind == REAL:
            if float(f"{value:.{_DECIMALS}f}"[:_REAL]) != value:
                self._lost[name] = self._lost.get(name, 0) + 1
            return value
        text = value.isoformat() if isinstance(value, date) else str(value)
        data = text.encode()
        if len(data) > _WORDS or text != text.rstrip(" \0"):  # blanks at the end are those of the field
            self._lost[name] = self._lost.get(name, 0) + 1
            text = data[:_WORDS].decode(errors="ignore").rstrip(" \0")
        return text

    def finish(self) -> tuple[str, ...]:
        self._writer.close()
        if self._schema.crs is not None:
            self._path.with_suffix(".prj").write_text(write_crs(self._schema.crs))
        self._path.with_suffix(".cpg").write_text("UTF-8")
        changed = [
            f"{old} is called {new}"
            for old, new in zip(self._schema.fields, self._names, strict=True)
            if old != new
        ]
        lost = [f"{count:,} values of {name} shortened" for name, count in self._lost.items()]
        return (*changed, *lost)

    def abort(self) -> None:
        self._writer.shp = self._writer.shx = self._writer.dbf = None


def _lines(geometry: shapely.Geometry) -> Iterator[shapely.Geometry]:
    for part in shapely.get_parts(geometry):
        yield from shapely.get_rings(part) if part.geom_type == "Polygon" else (part,)


def _names(schema: Schema) -> list[str]:
    """Names of at most ten bytes, each once."""
    made: list[str] = []
    for name in schema.fields:
        name = name.replace(" ", "_")
        short = name.encode()[:_NAME].decode(errors="ignore")
        number = 1
        while short.lower() in (other.lower() for other in made):
            number += 1
            tail = str(number)
            short = name.encode()[: _NAME - len(tail)].decode(errors="ignore") + tail
        made.append(short)
    return made
