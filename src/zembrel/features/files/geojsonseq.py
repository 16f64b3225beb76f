"""GeoJSON text sequences (RFC 8142): a feature a line, after a record separator or without one."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any, TextIO

from zembrel.errors import InputError
from zembrel.features.files.geojson import (
    WGS_84,
    GeoJSONWriter,
    is_ours,
    layers,
    loaded,
    not_geojson,
    part_of,
)
from zembrel.features.files.jsontext import BATCH, LONG
from zembrel.features.files.schema import Schema
from zembrel.features.table import FeatureTable
from zembrel.geodesy.registry import by_code

__all__ = ["is_ours", "layers", "make_writer", "parts"]
_SEPARATOR = "\x1e"
_CHUNK = 1 << 20  # characters read at a time


def parts(path: Path, layer: str | None = None) -> Iterator[FeatureTable]:
    """The features of the file at `path`, some at a time. Raises InputError with the number of a bad one."""
    try:
        with path.open(encoding="utf-8-sig", newline="") as file:
            before = 0
            for batch in _batches(path, file):
                yield part_of(path, batch, before, by_code(WGS_84))
                before += len(batch)
            if not before:
                yield FeatureTable.of([], [], by_code(WGS_84))
    except OSError as exc:
        raise InputError(f"{path} cannot be read", exc.strerror or str(exc), "check the path") from exc
    except UnicodeDecodeError as exc:
        raise not_geojson(path, f"byte {exc.start} is not UTF-8") from exc


def _batches(path: Path, file: TextIO) -> Iterator[list[Any]]:
    batch, size = list[Any](), 0
    for number, record in enumerate(_records(file), 1):
        if not record.strip():
            continue
        try:
            batch.append(loaded(path, record))
        except InputError as exc:
            raise not_geojson(path, f"record {number}: {exc.why}") from exc
        size += len(record)
        if len(batch) == BATCH or size > LONG:
            yield batch
            batch, size = [], 0
    if batch:
        yield batch


def _records(file: TextIO) -> Iterator[str]:
    """Texts between separators, or lines where the first of them has none."""
    first = file.readline(_CHUNK)
    file.seek(0)
    if _SEPARATOR not in first:
        yield from file
        return
    parts: list[str] = []
    while chunk := file.read(_CHUNK):
        *whole, rest = chunk.split(_SEPARATOR)
        for record in whole:
            yield "".join([*parts, record])
            parts = []
        parts.append(rest)
    yield "".join(parts)


def make_writer(path: Path, schema: Schema) -> GeoJSONWriter:
    """With record separators, but in .ndjson, where lines alone are usual."""
    mark = "" if path.suffix.lower() == ".ndjson" else _SEPARATOR
    return GeoJSONWriter(path, mark, "\n" + mark, "\n")
