"""GeoJSON files (RFC 7946), and the older `crs` member that says otherwise."""

from __future__ import annotations

import json
import re
from collections.abc import Generator, Iterable, Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from zembrel.errors import InputError
from zembrel.features.depth import check_texts
from zembrel.features.files.schema import Schema
from zembrel.features.table import FeatureTable, column
from zembrel.geodesy.crs import CRS
from zembrel.geodesy.registry import by_code
from zembrel.nested import json_of

WGS_84 = 4326
_DECODER, _BLANKS = json.JSONDecoder(), re.compile(r"[ \t\r\n]*")
BATCH = 5_000  # features that are decoded at a time


def is_ours(path: Path) -> bool:
    return True


def layers(path: Path) -> list[str]:
    return [path.stem]


def read(path: Path, layer: str | None = None) -> FeatureTable:
    """The features of the file at `path`. Raises InputError for anything that is not GeoJSON."""
    text = text_of(path)
    try:
        members: dict[str, Any] = {}
        made = table_of(path, _collected(text, members), None)
        if members.get("type") == "FeatureCollection":
            return replace(made, crs=_crs_of(path, members))
    except (_OtherwiseError, ValueError, RecursionError):
        pass  # what is no plain collection is read as a whole
    document = loaded(path, text)
    if not isinstance(document, dict):
        raise not_geojson(path, "it holds no object")
    if document.get("type") == "FeatureCollection":
        features = document.get("features")
    else:
        features = [document if document.get("type") == "Feature" else {"geometry": document}]
    if not isinstance(features, list):
        raise not_geojson(path, "its features are no list")
    return table_of(path, in_batches(features), _crs_of(path, document))


class _OtherwiseError(Exception):
    """A text is not laid out as a collection of features."""


def _collected(text: str, members: dict[str, Any]) -> Iterator[list[Any]]:
    """The features of a collection, some at a time, so that they never stand in memory all at once.

    members: takes the others of the object. Raises _OtherwiseError or ValueError for what is no such text.
    """
    at = _past(text, 0, "{")
    while True:
        key, at = _DECODER.raw_decode(text, at)
        if not isinstance(key, str) or key in members:
            raise _OtherwiseError
        at = _past(text, _past(text, at), ":")
        if key == "features":
            members[key] = None
            at = yield from _array(text, at)
        else:
            members[key], at = _DECODER.raw_decode(text, at)
        at = _past(text, at)
        if text[at : at + 1] == "}":
            if text[at + 1 :].strip():
                raise _OtherwiseError
            return
        at = _past(text, at, ",")


def _array(text: str, at: int) -> Generator[list[Any], None, int]:
    """The values of an array, some at a time; returns where it ends."""
    at, batch = _past(text, at, "["), list[Any]()
    while text[at : at + 1] != "]":
        value, at = _DECODER.raw_decode(text, at)
        batch.append(value)
        at = _past(text, at)
        ends = text[at : at + 1] == "]"
        if ends or len(batch) == BATCH:
            yield batch
            batch = []
        if ends:
            break
        at = _past(text, at, ",")
        if text[at : at + 1] == "]":
            raise _OtherwiseError
    return at + 1


def _past(text: str, at: int, sign: str = "") -> int:
    """Where the next token begins, after a sign that must stand there if one is named."""
    at = _BLANKS.match(text, at).end()  # type: ignore[union-attr]
    if not sign:
        return at
    if text[at : at + 1] != sign:
        raise _OtherwiseError
    return _BLANKS.match(text, at + 1).end()  # type: ignore[union-attr]


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


def in_batches(features: list[Any]) -> Iterator[Sequence[Any]]:
    """The features of a list, which are let go as they are taken: their coordinates take most of the room."""
    for start in range(0, len(features), BATCH):
        part = features[start : start + BATCH]
        features[start : start + BATCH] = [None] * len(part)
        yield part


def table_of(path: Path, batches: Iterable[Sequence[Any]], crs: CRS | None) -> FeatureTable:
    """Features, decoded from JSON, as a table. Raises InputError with the number of what is none."""
    parts: list[Any] = []
    rows: list[dict[str, Any]] = []
    ids: list[Any] = []
    for features in batches:
        for number, feature in enumerate(features, len(rows) + 1):
            properties = feature.get("properties") if isinstance(feature, dict) else 0
            if not isinstance(properties, dict | None):
                raise not_geojson(path, f"feature {number} is no feature")
        parts.append(_geometries(path, features, len(rows)))
        rows += [_row(feature) for feature in features]
        ids += [feature["id"] for feature in features if "id" in feature]
    geometries = np.concatenate(parts) if parts else np.zeros(0, object)
    made = FeatureTable.of(geometries, rows, crs)
    return replace(made, ids=column(ids), key="id") if rows and len(ids) == len(rows) else made


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
    return GeoJSONWriter(path, '{"type":"FeatureCollection","features":[\n', ",\n", "\n]}\n")


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

    def finish(self) -> tuple[str, ...]:
        self._file.write(self._tail)
        self._file.close()
        return ()

    def abort(self) -> None:
        self._file.close()


def write_geojson(table: FeatureTable) -> str:
    """GeoJSON text in longitude and latitude of WGS 84, as the standard asks."""
    return '{"type":"FeatureCollection","features":[\n' + ",\n".join(feature_lines(table)) + "\n]}\n"
