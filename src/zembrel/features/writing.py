"""Feature files of any kind: one door to write them."""

from __future__ import annotations

from pathlib import Path

from zembrel.errors import UsageError
from zembrel.features import geojson, geopackage
from zembrel.features.reading import ENDINGS
from zembrel.features.table import FeatureTable


def check_name(path: Path) -> None:
    """Raise UsageError unless the ending of `path` is a feature format's."""
    if path.suffix.lower() not in ENDINGS:
        raise UsageError(
            f"{path.name} is no name of a feature file",
            f"its ending is {path.suffix!r}",
            "end it in " + " or ".join(ENDINGS),
        )


def write_features(path: Path, table: FeatureTable, name: str) -> None:
    """Write `table` to a new file at `path`; `name` is that of the layer, where a file has several."""
    if path.suffix.lower() in geopackage.ENDINGS:
        geopackage.write_geopackage(path, table, name)
    else:
        path.write_text(geojson.write_geojson(table), encoding="utf-8")
