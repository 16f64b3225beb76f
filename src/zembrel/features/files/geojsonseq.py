"""GeoJSON text sequences (RFC 8142): a feature a line, after a record separator or without one."""

from __future__ import annotations

from pathlib import Path

from zembrel.errors import InputError
from zembrel.features.files.geojson import (
    WGS_84,
    GeoJSONWriter,
    is_ours,
    layers,
    loaded,
    not_geojson,
    table_of,
    text_of,
)
from zembrel.features.files.schema import Schema
from zembrel.features.table import FeatureTable
from zembrel.geodesy.registry import by_code

__all__ = ["is_ours", "layers", "make_writer", "read"]
_SEPARATOR = "\x1e"


def read(path: Path, layer: str | None = None) -> FeatureTable:
    """The features of the file at `path`. Raises InputError with the number of a line that is none."""
    text = text_of(path)
    records = text.split(_SEPARATOR) if _SEPARATOR in text else text.splitlines()
    features = []
    for number, record in enumerate(records, 1):
        if not record.strip():
            continue
        try:
            features.append(loaded(path, record))
        except InputError as exc:
            raise not_geojson(path, f"record {number}: {exc.why}") from exc
    return table_of(path, features, by_code(WGS_84))


def make_writer(path: Path, schema: Schema) -> GeoJSONWriter:
    """With record separators, but in .ndjson, where lines alone are usual."""
    mark = "" if path.suffix.lower() == ".ndjson" else _SEPARATOR
    return GeoJSONWriter(path, mark, "\n" + mark, "\n")
