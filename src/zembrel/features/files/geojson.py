"""GeoJSON files (RFC 7946), and the older `crs` member that says otherwise."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any, TextIO

import numpy as np
import shapely

from zembrel.errors import InputError
from zembrel.facts import Fact
from zembrel.features.columns import column
from zembrel.features.depth import check_texts
from zembrel.features.files.jsontext import JSONText, OtherwiseError, collected
from zembrel.features.files.schema import Schema
from zembrel.features.table import FeatureTable
from zembrel.geodesy.crs import CRS
from zembrel.geodesy.registry import by_code
from zembrel.nested import json_of
from zembrel.provenance import KEY, document, found

WGS_84 = 4326
_CHUNK = 1 << 20  # bytes read at a time


def is_ours(path: Path) -> bool:
    return True


def layers(path: Path) -> list[str]:
    return [path.stem]


def parts(path: Path, layer: str | None = None) -> Iterator[FeatureTable]:
    """The features of the file at `path`, some at a time. Raises InputError for what is not GeoJSON."""
    before = 0
    try:
        with _opened(path) as file:
            crs = _crs_ahead(path, file)
            for batch in collected(JSONText(file), {}):
                yield part_of(path, batch, before, crs)
                before += len(batch)
            if not before:
                yield FeatureTable.of([], [], crs)
    except (OtherwiseError, ValueError, RecursionError) as exc:
        if before:
            raise not_geojson(path, f"{exc}" or "it is not laid out as one collection") from exc
        yield _whole(path)


def _crs_ahead(path: Path, file: TextIO) -> CRS | None:
    """The CRS of a collection, which may be told behind its features; the file is at its beginning again.

    Raises OtherwiseError or ValueError for what is no plain collection.
    """
    raw, last, told = file.buffer, b"", False
    while not told and (chunk := raw.read(_CHUNK)):
        told, last = b'"crs"' in last + chunk, chunk[-4:]
    file.seek(0)
    members: dict[str, Any] = {}
    for _ in collected(JSONText(file), members):
        if members.get("type") == "FeatureCollection" and ("crs" in members or not told):
            break  # nothing that stands behind counts
    file.seek(0)
    if KEY in members:
        found(path, json.dumps(members[KEY]))
    if members.get("type") != "FeatureCollection" or "features" not in members:
        raise OtherwiseError
    return _crs_of(path, members)


def _whole(path: Path) -> FeatureTable:
    """What is no plain collection, read as a whole."""
    document = loaded(path, text_of(path))
    if not isinstance(document, dict):
        raise not_geojson(path, "it holds no object")
    if document.get("type") == "FeatureCollection":
        features = document.get("features")
    else:
        features = [document if document.get("type") == "Feature" else {"geometry": document}]
    if not isinstance(features, list):
        raise not_geojson(path, "its features are no list")
    return part_of(path, features, 0, _crs_of(path, document))


def _opened(path: Path) -> TextIO:
    try:
        return path.open(encoding="utf-8-sig", newline="")
    except OSError as exc:
        raise InputError(f"{path} cannot be read", exc.strerror or str(exc), "check the path") from exc


def text_of(path: Path) -> str:
    """The text of the file at `path`. Raises InputError."""
    try:
        return path.read_text("utf-8-sig")
    except OSError as exc:
        raise InputError(f"{path} cannot be read", exc.strerror or str(exc), "check the path") from exc
    except UnicodeDecodeError as exc:
        raise not_geojson(path, f"byte {exc.start} is not UTF-8") from exc


def loaded(path: Path, text: str) -> Any:
    """The JSON value of `text`, in which NaN may stand. Raises InputError."""
    import orjson

    try:
        return orjson.loads(text)
    except orjson.JSONDecodeError:
        try:
            return json_of(text)
        except (ValueError, RecursionError) as exc:
            raise not_geojson(path, str(exc)) from exc


def part_of(path: Path, features: Sequence[Any], before: int, crs: CRS | None) -> FeatureTable:
    """Features, decoded from JSON, as a table; so many came before. Raises InputError with the number of what
    is none."""
    for number, feature in enumerate(features, before + 1):
        properties = feature.get("properties") if isinstance(feature, dict) else 0
        if not isinstance(properties, dict | None):
            raise not_geojson(path, f"feature {number} is no feature")
    made = FeatureTable.of(_geometries(path, features, before), [*map(_row, features)], crs)
    ids = [feature["id"] for feature in features if "id" in feature]
    return replace(made, ids=column(ids), key="id") if ids and len(ids) == len(features) else made


def _geometries(path: Path, features: Sequence[Any], before: int) -> Any:
    """The shapes of some features, of which so many came before."""
    import orjson

    nodes = [feature.get("geometry") for feature in features]
    try:
        texts = np.array([None if node is None else orjson.dumps(node) for node in nodes], object)
    except (orjson.JSONEncodeError, RecursionError) as exc:
        raise not_geojson(path, str(exc)) from exc
    check_texts(path, texts)
    geometries = shapely.from_geojson(texts, on_invalid="ignore") if len(texts) else texts
    for number, (geometry, node) in enumerate(zip(geometries, nodes, strict=True)):
        if geometry is None and node is not None:
            geometries[number] = _by_hand(path, before + number + 1, node)
    return geometries


def _row(feature: dict[str, Any]) -> dict[str, Any]:
    row = dict(feature.get("properties") or {})
    return row if "id" not in feature or "id" in row else {"id": feature["id"], **row}


def _by_hand(path: Path, number: int, node: Any) -> shapely.Geometry:
    """A geometry that the package does not take as text: NaN among its coordinates."""
    from shapely.geometry import shape

    try:
        return shape(node)
    except (shapely.errors.ShapelyError, ValueError, TypeError, KeyError, AttributeError, IndexError) as exc:
        kind = node.get("type") if isinstance(node, dict) else None
        raise not_geojson(path, f"feature {number} has no sound geometry ({kind}: {exc})") from exc


def _crs_of(path: Path, document: dict[str, Any]) -> CRS | None:
    named = document.get("crs", ...)
    if named is ...:
        return by_code(WGS_84)
    properties = named.get("properties") if isinstance(named, dict) else None
    name = str(properties.get("name", "")) if isinstance(properties, dict) else ""
    if re.search(r"CRS84h?$", name):
        return by_code(WGS_84)
    code = re.search(r"EPSG:+(?:[\d.]*:)?(\d+)$", name)
    if code is None:
        return None
    try:
        return by_code(int(code[1]))
    except InputError as exc:
        raise InputError(f"{path} is in {name}", exc.why, exc.remedy) from exc


def not_geojson(path: Path, why: str) -> InputError:
    return InputError(f"{path} is not GeoJSON", why, "check the file, or name another one")


def feature_lines(table: FeatureTable) -> Iterator[str]:
    """Each feature as JSON, in longitude and latitude of WGS 84, outer rings counterclockwise."""
    import orjson

    table = table.to(by_code(WGS_84))
    shapes = shapely.to_geojson(shapely.orient_polygons(table.geometries)) if len(table) else table.geometries
    ids = [None] * len(table) if table.ids is None else table.ids.tolist()
    for shape, row, own in zip(shapes.tolist(), table.rows(), ids, strict=True):
        geometry = None if shape is None else orjson.Fragment(shape)
        feature: dict[str, Any] = {"type": "Feature", "properties": row, "geometry": geometry}
        if own is not None:
            feature = {"type": "Feature", "id": own, **feature}
            if row.get(table.key) == own:
                row.pop(table.key)
        yield orjson.dumps(feature, default=str, option=orjson.OPT_NON_STR_KEYS).decode()


def make_writer(path: Path, schema: Schema) -> GeoJSONWriter:
    told = document()
    about = f'"{KEY}":{told},' if told is not None else ""
    return GeoJSONWriter(path, f'{{"type":"FeatureCollection",{about}"features":[\n', ",\n", "\n]}\n")


class GeoJSONWriter:
    """Features one a line, between a head and a tail."""

    def __init__(self, path: Path, head: str, between: str, tail: str) -> None:
        self._file = path.open("w", encoding="utf-8")
        self._file.write(head)
        self._between, self._tail, self._count = between, tail, 0

    def add(self, table: FeatureTable) -> None:
        for line in feature_lines(table):
            self._file.write(self._between * bool(self._count) + line)
            self._count += 1

    def finish(self) -> tuple[Fact, ...]:
        self._file.write(self._tail)
        self._file.close()
        return ()

    def abort(self) -> None:
        self._file.close()


def write_geojson(table: FeatureTable) -> str:
    """GeoJSON text in longitude and latitude of WGS 84, as the standard asks."""
    return '{"type":"FeatureCollection","features":[\n' + ",\n".join(feature_lines(table)) + "\n]}\n"
