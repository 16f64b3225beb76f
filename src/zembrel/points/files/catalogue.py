"""The table of point formats: what each is called, how it is recognised and what it can hold."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple


class PointFormat(NamedTuple):
    """One format of point files: where its code is and what it can hold."""

    title: str
    module: str  # imported at first use
    endings: tuple[str, ...]
    specification: str
    holds: str
    crs: str = "inside"
    always: bool = True  # whether a file of that ending holds points for sure
    records: bool = False  # whether it holds records of LAS, with their settings


POINT_FORMATS: dict[str, PointFormat] = {
    "copc": PointFormat(
        "Cloud-optimized point cloud",
        "zembrel.points.files.copc",
        (".copc.laz",),
        "COPC 1.0: LAZ 1.4 with an octree",
        "point formats 6 to 8, extra bytes",
        "inside",
        records=True,
    ),
    "laz": PointFormat(
        "LAZ",
        "zembrel.points.files.las",
        (".laz",),
        "LAZ specification 1.4: pointwise chunks for formats 0 to 5, layered ones for 6 to 10",
        "all point formats, extra bytes, waveforms",
        "inside",
        records=True,
    ),
    "las": PointFormat(
        "LAS",
        "zembrel.points.files.las",
        (".las",),
        "LAS 1.0 to 1.4 R15",
        "all point formats, extra bytes, waveforms",
        "inside",
        records=True,
    ),
    "ply": PointFormat(
        "PLY",
        "zembrel.points.files.ply",
        (".ply",),
        "Polygon file format 1.0: text, and binary of either order",
        "any values by name; colours of 8 bits",
        "in a comment",
    ),
    "pointtext": PointFormat(
        "Text of points",
        "zembrel.points.files.text",
        (".xyz", ".txt", ".csv", ".pts"),
        "a point a line; columns by a header or by --columns",
        "any values by name",
        "in .prj beside it",
        always=False,
    ),
    "pointparquet": PointFormat(
        "Parquet of points",
        "zembrel.points.files.parquet",
        (".parquet",),
        "Apache Parquet, a column a value; scaling and CRS in the metadata",
        "any values by name",
        "inside",
        always=False,
    ),
}
_POINTS_ALONE = (".pts",)  # of texts, the ending that means nothing else
TABLES = ("pointtext", "pointparquet", "ply")  # whose columns can be chosen
ENDINGS = tuple(ending for form in POINT_FORMATS.values() for ending in form.endings)


def format_of(path: Path) -> str | None:
    """The name of the point format that the ending of a path says, if any."""
    low = path.name.lower()
    return next((name for name, form in POINT_FORMATS.items() if low.endswith(form.endings)), None)


def surely_points(path: Path) -> bool:
    """Whether a file of that name holds points and nothing else."""
    name = format_of(path)
    return name is not None and (POINT_FORMATS[name].always or path.name.lower().endswith(_POINTS_ALONE))
