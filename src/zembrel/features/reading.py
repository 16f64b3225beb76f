"""Feature files of any kind: one door to read them."""

from __future__ import annotations

from pathlib import Path

from zembrel.errors import InputError
from zembrel.features import geojson, geopackage
from zembrel.features.table import FeatureTable

ENDINGS = (*geojson.ENDINGS, *geopackage.ENDINGS)


def read_features(path: Path, layer: str | None = None) -> FeatureTable:
    """The features of the file at `path`; of a container those of `layer`. Raises InputError."""
    if path.suffix.lower() in geopackage.ENDINGS:
        return geopackage.read_geopackage(path, layer)
    if path.suffix.lower() in geojson.ENDINGS:
        return geojson.read_geojson(path)
    raise InputError(
        f"{path} is of no feature format Zembrel reads",
        f"names end in {', '.join(ENDINGS)}",
        "convert it, or name another file",
    )
