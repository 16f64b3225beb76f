"""GeoJSON files (RFC 7946), and the older `crs` member that says otherwise."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

import shapely

from zembrel.errors import InputError
from zembrel.features.table import FeatureTable
from zembrel.geodesy.crs import CRS
from zembrel.geodesy.registry import by_code

ENDINGS = (".geojson", ".json")


def read_geojson(path: Path) -> FeatureTable:
    """The features of the file at `path`. Raises InputError for anything that is not GeoJSON."""
    try:
        document = json.loads(path.read_text("utf-8"))
    except OSError as exc:
        raise InputError(f"{path} cannot be read", exc.strerror or str(exc), "check the path") from exc
    except ValueError as exc:
        raise _not_geojson(path, str(exc)) from exc
    if not isinstance(document, dict):
        raise _not_geojson(path, "it holds no object")
    if document.get("type") == "FeatureCollection":
        features = document.get("features")
    else:
        features = [document if document.get("type") == "Feature" else {"geometry": document}]
    if not isinstance(features, list) or not all(isinstance(f, dict) for f in features):
        raise _not_geojson(path, "its features are no list")
    geometries, attributes = [], []
    for number, feature in enumerate(features, 1):
        geometry = feature.get("geometry")
        if geometry is None:
            continue
        try:
            geometries.append(shapely.from_geojson(json.dumps(geometry)))
        except shapely.errors.ShapelyError as exc:
            raise _not_geojson(path, f"feature {number}: {exc}") from exc
        attributes.append(feature.get("properties") or {})
    return FeatureTable(tuple(geometries), tuple(attributes), _crs_of(document))


def write_geojson(table: FeatureTable) -> str:
    """GeoJSON text in longitude and latitude of WGS 84, as the standard asks."""
    table = table.to(by_code(4326))
    features = [
        {"type": "Feature", "properties": dict(row), "geometry": json.loads(shapely.to_geojson(geometry))}
        for geometry, row in zip(table.geometries, table.attributes, strict=True)
    ]
    return json.dumps({"type": "FeatureCollection", "features": features}, indent=1) + "\n"


def _crs_of(document: dict[str, Any]) -> CRS:
    named = document.get("crs")
    name = named.get("properties", {}).get("name", "") if isinstance(named, dict) else ""
    code = re.search(r"EPSG:+(\d+)$", str(name))
    return by_code(int(code[1])) if code else by_code(4326)


def _not_geojson(path: Path, why: str) -> InputError:
    return InputError(f"{path} is not GeoJSON", why, "check the file, or name another one")
