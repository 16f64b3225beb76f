"""KML and KMZ: placemarks with their geometries and extended data.

Source: OGC 07-147r2, "OGC KML" 2.2: kml:Placemark, kml:ExtendedData, kml:Schema. Coordinates are longitude
and latitude of WGS 84 and a height. Names and descriptions are fields of those names; the folders a placemark
lies in are the field `folder`.
"""

from __future__ import annotations

import shutil
import zipfile
import zlib
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from xml.sax.saxutils import escape, quoteattr

import shapely

from zembrel.errors import InputError
from zembrel.facts import Fact, fact
from zembrel.features.columns import INTEGER, REAL, TRUTH
from zembrel.features.files.kmltext import XML_HOLDS_NOT, display_name, for_viewers, of_viewers
from zembrel.features.files.schema import Schema
from zembrel.features.table import FeatureTable
from zembrel.geodesy.registry import by_code
from zembrel.measure import show_bytes
from zembrel.reading import TRUST, readings

_WGS_84 = 4326
_DEEPEST = 200
_MOST = 2_000_000_000  # bytes of a document in a KMZ
_TYPES = {INTEGER: "int", REAL: "double", TRUTH: "bool"}
_MAKERS = {"int": int, "short": int, "uint": int, "ushort": int, "double": float, "float": float}
_OWN = ("name", "description")


def is_ours(path: Path) -> bool:
    return True


def layers(path: Path) -> list[str]:
    return [path.stem]


def parts(path: Path, layer: str | None = None) -> Iterator[FeatureTable]:
    """The placemarks of the file at `path`, as a whole. Raises InputError with the number of a faulty one."""
    from defusedxml import ElementTree
    from defusedxml.common import DefusedXmlException

    try:
        root = ElementTree.fromstring(_document(path))
        _check_depth(root)
    except (ElementTree.ParseError, DefusedXmlException, ValueError, LookupError) as exc:
        raise _broken(path, f"{exc}") from exc
    schemas = {
        (schema.get("id", ""), field.get("name", "")): field.get("type", "string")
        for schema in root.iter()
        if _local(schema) == "Schema"
        for field in schema
        if _local(field) == "SimpleField"
    }
    geometries, rows = [], []
    for number, (folders, mark) in enumerate(_placemarks(root, ()), 1):
        try:
            geometries.append(_geometry_of(mark))
            rows.append(_row(mark, folders, schemas))
        except (ValueError, IndexError, shapely.errors.ShapelyError) as exc:
            raise _broken(path, f"placemark {number}: {exc}") from exc
    left = sum(_local(node) in ("NetworkLink", "Track", "MultiTrack", "Model") for node in root.iter())
    remarks = (f"{left} links, tracks and models left out",) if left else ()
    yield FeatureTable.of(geometries, rows, by_code(_WGS_84), *remarks)


def _check_depth(root: Any) -> None:
    """Raise ValueError for elements that lie too deep in each other."""
    level, depth = [root], 0
    while level:
        depth, level = depth + 1, [child for node in level for child in node]
        if depth > _DEEPEST:
            raise ValueError(f"its elements lie more than {_DEEPEST} deep in each other")


def _document(path: Path) -> bytes:
    try:
        if path.suffix.lower() != ".kmz":
            return path.read_bytes()
        with zipfile.ZipFile(path) as packed:
            name = next((n for n in packed.namelist() if n.lower().endswith(".kml")), None)
            if name is None:
                raise _broken(path, "it holds no .kml")
            with packed.open(name) as file:
                data = file.read(readings.most(_MOST) + 1)
    except (zipfile.BadZipFile, zlib.error, OSError, EOFError, NotImplementedError, RuntimeError) as exc:
        raise _broken(path, f"{exc}") from exc
    if len(data) > readings.most(_MOST):
        what, why = f"{path} unpacks to more than a document takes", f"the limit is {show_bytes(_MOST)}"
        raise InputError(what, why, TRUST)
    return data


def _local(node: Any) -> str:
    return str(node.tag).rpartition("}")[2]


def _placemarks(node: Any, folders: tuple[str, ...]) -> Iterator[tuple[tuple[str, ...], Any]]:
    for child in node:
        kind = _local(child)
        if kind == "Placemark":
            yield folders, child
        elif kind in ("Document", "Folder"):
            name = _text(child, "name") if kind == "Folder" else None
            yield from _placemarks(child, (*folders, name) if name else folders)


def _text(node: Any, name: str) -> str | None:
    found = next((child for child in node if _local(child) == name), None)
    return _words(found.text) if found is not None else None


def _words(text: str | None) -> str:
    """A text as it was written; what stands on lines of its own is laid out so, and means no blanks."""
    return (text or "").strip() if (text or "").lstrip(" \t").startswith("\n") else text or ""


def _row(mark: Any, folders: tuple[str, ...], schemas: dict[tuple[str, str], str]) -> dict[str, Any]:
    row: dict[str, Any] = {name: text for name in _OWN if (text := _text(mark, name)) is not None}
    if "description" in row:
        row["description"] = of_viewers(row["description"])
    if folders:
        row["folder"] = "/".join(folders)
    for data in (child for node in mark if _local(node) == "ExtendedData" for child in node):
        if _local(data) == "Data":
            value = _text(data, "value")
            row[data.get("name", "")] = None if value is None else of_viewers(value)
        elif _local(data) == "SchemaData":
            schema = data.get("schemaUrl", "").lstrip("#")
            for field in data:
                name, text = field.get("name", ""), _words(field.text)
                kind = schemas.get((schema, name), "string")
                row[name] = _value(text, kind)
    return row


def _value(text: str, kind: str) -> Any:
    if not text:
        return None
    if kind == "bool":
        return text.strip().lower() in ("1", "true")
    return _MAKERS[kind](text.strip()) if kind in _MAKERS else of_viewers(text)


def _geometry_of(mark: Any) -> shapely.Geometry | None:
    made = [geometry for child in mark if (geometry := _geometry(child)) is not None]
    return made[0] if made else None


def _geometry(node: Any) -> shapely.Geometry | None:
    kind = _local(node)
    if kind == "Point":
        return shapely.Point(_coordinates(node)[0])
    if kind in ("LineString", "LinearRing"):
        return shapely.LineString(_coordinates(node))
    if kind == "Polygon":
        rings = {
            side: [_coordinates(ring) for bound in node if _local(bound) == side for ring in bound]
            for side in ("outerBoundaryIs", "innerBoundaryIs")
        }
        return shapely.Polygon(rings["outerBoundaryIs"][0], rings["innerBoundaryIs"])
    if kind != "MultiGeometry":
        return None
    parts = [part for child in node if (part := _geometry(child)) is not None]
    for single, several in ((1, shapely.MultiLineString), (0, shapely.MultiPoint), (3, shapely.MultiPolygon)):
        if parts and all(shapely.get_type_id(part) == single for part in parts):
            return several(parts)
    return shapely.GeometryCollection(parts)


def _coordinates(node: Any) -> list[tuple[float, ...]]:
    text = _text(node, "coordinates")
    if text is None:
        raise ValueError(f"a {_local(node)} without coordinates")
    return [tuple(float(word) for word in triple.split(",") if word) for triple in text.split()]


def _broken(path: Path, why: str) -> InputError:
    return InputError(f"{path} is no sound KML", why, "correct it, or name another file")


def make_writer(path: Path, schema: Schema) -> KMLWriter:
    return KMLWriter(path, schema)


class KMLWriter:
    """A document with a schema and a placemark for each feature."""

    def __init__(self, path: Path, schema: Schema) -> None:
        self._path, self._schema = path, schema
        self._text = path if path.suffix.lower() == ".kml" else path.with_name(path.name + ".part")
        self._file = self._text.open("w", encoding="utf-8")
        self._lost: dict[str, int] = {}
        self._own = {name for name in _OWN if name in schema.fields}
        fields = "".join(
            f"<SimpleField name={_attribute(name)} type={quoteattr(_TYPES.get(field.kind, 'string'))}>"
            f"{display_name(name)}</SimpleField>"
            for name, field in schema.fields.items()
            if name not in self._own
        )
        self._file.write(
            '<?xml version="1.0" encoding="UTF-8"?>\n<kml xmlns="http://www.opengis.net/kml/2.2"><Document>'
            f"<name>{escape(XML_HOLDS_NOT.sub('', schema.name))}</name>\n"
            + (f'<Schema name="fields" id="fields">{fields}</Schema>\n' if fields else "")
        )

    def add(self, table: FeatureTable) -> None:
        table = table.to(by_code(_WGS_84))
        for geometry, row in zip(table.geometries, table.rows(), strict=True):
            own = "".join(f"<{n}>{self._held(n, row[n])}</{n}>" for n in _OWN if row.get(n) is not None)
            data = "".join(
                f"<SimpleData name={_attribute(name)}>{self._held(name, value)}</SimpleData>"
                for name, value in row.items()
                if name not in self._own and value is not None
            )
            data = (
                f'<ExtendedData><SchemaData schemaUrl="#fields">{data}</SchemaData></ExtendedData>'
                if data
                else ""
            )
            self._file.write(f"<Placemark>{own}{data}{''.join(geometry_text(geometry))}</Placemark>\n")

    def finish(self) -> tuple[Fact, ...]:
        self._file.write("</Document></kml>\n")
        self._file.close()
        if self._text != self._path:
            with (
                zipfile.ZipFile(self._path, "w") as packed,
                packed.open(_inside(), "w", force_zip64=True) as inside,
                self._text.open("rb") as text,
            ):
                shutil.copyfileobj(text, inside)
            self._text.unlink()
        what = "without characters that XML cannot hold"
        return tuple(
            fact("values_changed", values=count, field=name, what=what) for name, count in self._lost.items()
        )

    def _held(self, name: str, value: Any) -> str:
        """A value as XML holds it."""
        text = str(int(value)) if isinstance(value, bool) else str(value)
        kept = XML_HOLDS_NOT.sub("", text)
        if kept != text:
            self._lost[name] = self._lost.get(name, 0) + 1
        return escape(kept if name == "name" else for_viewers(kept), {"\r": "&#13;"})

    def abort(self) -> None:
        self._file.close()


def _attribute(name: str) -> str:
    return quoteattr(XML_HOLDS_NOT.sub("", name))


def _inside() -> zipfile.ZipInfo:
    """The entry of an archive, without a time: the same features give the same bytes."""
    entry = zipfile.ZipInfo("doc.kml")
    entry.compress_type, entry.external_attr = zipfile.ZIP_DEFLATED, 0o644 << 16
    return entry


def geometry_text(geometry: shapely.Geometry | None) -> Iterator[str]:
    """The elements of a geometry in degrees."""
    if geometry is None or geometry.is_empty:
        return
    kind = geometry.geom_type
    if kind in ("Point", "LineString", "LinearRing"):
        yield f"<{kind}><coordinates>{_places(geometry)}</coordinates></{kind}>"
    elif kind == "Polygon":
        turned = shapely.orient_polygons(geometry)
        sides = [("outer", turned.exterior), *(("inner", ring) for ring in turned.interiors)]
        rings = (
            f"<{side}BoundaryIs>{''.join(geometry_text(ring))}</{side}BoundaryIs>" for side, ring in sides
        )
        yield f"<Polygon>{''.join(rings)}</Polygon>"
    else:
        parts = (text for part in geometry.geoms for text in geometry_text(part))
        yield f"<MultiGeometry>{''.join(parts)}</MultiGeometry>"


def _places(geometry: shapely.Geometry) -> str:
    points = shapely.get_coordinates(geometry, include_z=bool(geometry.has_z)).tolist()
    return " ".join(",".join(map(repr, point)) for point in points)
