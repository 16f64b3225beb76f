"""index for points: the extents that files say."""

from __future__ import annotations

from zembrel import features
from zembrel.errors import InputError
from zembrel.geodesy.crs import label
from zembrel.geodesy.registry import by_code
from zembrel.inputs.clouds import open_cloud
from zembrel.inputs.intake import Given
from zembrel.inputs.options import Output, Where
from zembrel.results.receipt import Receipt
from zembrel.verbs.index import in_degrees, written

_CLOSE = 0.5  # metres that an outline may miss


def index(given: Given, where: Where, output: Output, options: None) -> Receipt:
    """One polygon for each cloud."""
    return written(given.paths, _outlines(given), output)


def _outlines(given: Given) -> features.table.FeatureTable:
    """One polygon for each cloud, in longitude and latitude, with what it is. Raises InputError without a
    CRS."""
    import shapely

    degrees, shapes, rows = by_code(4326), [], []
    for path in given.origins:
        cloud = open_cloud(path, given.options).cloud
        if cloud.crs is None:
            raise InputError(
                f"{path} has no coordinate reference system", "its outline has no place", "add --from-crs CRS"
            )
        if cloud.bounds is None:
            raise InputError(f"{path} does not say where its points lie", "it may be empty", "leave it out")
        west, south, low, east, north, high = cloud.bounds
        outline = features.table.FeatureTable.of([shapely.box(west, south, east, north)], [{}], cloud.crs)
        shapes.append(in_degrees(outline, _CLOSE))
        rows.append(
            {
                "path": str(path), "crs": label(cloud.crs), "points": cloud.count, "low": low, "high": high,
                "point_format": cloud.layout.format,
            }
        )  # fmt: skip
    return features.table.FeatureTable.of(shapes, rows, degrees)
