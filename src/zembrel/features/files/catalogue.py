"""The table of feature formats: what each is called, how it is recognised and what it can hold."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple


class FeatureFormat(NamedTuple):
    """One format of feature files: where its code is and what it can hold."""

    title: str
    module: str  # imported at first use
    endings: tuple[str, ...]
    specification: str
    crs: str = "any"
    beside: tuple[str, ...] = ()  # endings of files that belong to it
    mixed: bool = True  # whether one layer holds points, lines and polygons together
    layers: bool = False  # whether one file holds several
    limits: str = ""


FEATURE_FORMATS: dict[str, FeatureFormat] = {
    "geojson": FeatureFormat(
        "GeoJSON",
        "zembrel.features.files.geojson",
        (".geojson", ".json"),
        "RFC 7946, and the older crs member when reading",
        crs="longitude and latitude of WGS 84",
    ),
    "geojsonseq": FeatureFormat(
        "GeoJSON text sequence",
        "zembrel.features.files.geojsonseq",
        (".geojsonl", ".geojsons", ".ndjson"),
        "RFC 8142; a feature a line with or without the record separator",
        crs="longitude and latitude of WGS 84",
    ),
    "geopackage": FeatureFormat(
        "GeoPackage",
        "zembrel.features.files.geopackage",
        (".gpkg",),
        "OGC GeoPackage 1.3.1 with its spatial index",
        layers=True,
    ),
    "shapefile": FeatureFormat(
        "Shapefile",
        "zembrel.features.files.shapefiles",
        (".shp",),
        "Shapefile Technical Description, July 1998; dBASE III",
        crs="any, in .prj",
        beside=(".shx", ".dbf", ".prj", ".cpg"),
        mixed=False,
        limits="names of 10 bytes, words of 254, 2 GB a file",
    ),
    "kml": FeatureFormat(
        "KML",
        "zembrel.features.files.kml",
        (".kml", ".kmz"),
        "OGC KML 2.2 (07-147r2): placemarks and extended data",
        crs="longitude and latitude of WGS 84",
    ),
    "geoparquet": FeatureFormat(
        "GeoParquet",
        "zembrel.features.files.geoparquet",
        (".parquet", ".geoparquet"),
        "GeoParquet 1.1, geometries as WKB",
    ),
    "features-csv": FeatureFormat(
        "CSV of features",
        "zembrel.features.files.commas",
        (".csv", ".tsv"),
        "RFC 4180; columns x and y for points, else wkt (OGC 06-103r4)",
        crs="any, in .prj",
        beside=(".prj",),
    ),
}


def format_of(path: Path) -> FeatureFormat | None:
    """The format that the ending of `path` says, or None."""
    name = path.name.lower()
    return next((form for form in FEATURE_FORMATS.values() if name.endswith(form.endings)), None)


def is_features(path: Path) -> bool:
    """Whether the name of `path` looks like a file of features."""
    return format_of(path) is not None
