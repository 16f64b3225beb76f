"""GeoPackage feature tables, by way of SQLite.

Source: OGC GeoPackage Encoding Standard 1.3.1 (12-128r18), clauses 1.1 and 2.1, annexes C, F.3 (spatial
index) and F.9 (schema: what codes mean).
"""

from __future__ import annotations

from pathlib import Path

from zembrel.features.files.geopackage.gpkgreading import layers, names_in, parts
from zembrel.features.files.geopackage.gpkgwriting import GeoPackageWriter, take_over
from zembrel.features.files.schema import Schema

__all__ = ["is_ours", "layers", "make_writer", "names_in", "parts", "take_over"]


def is_ours(path: Path) -> bool:
    return True


def make_writer(path: Path, schema: Schema) -> GeoPackageWriter:
    """A writer of a new layer, in a file that may stand already."""
    return GeoPackageWriter(path, schema)
