"""Verbs between cells and shapes."""

from __future__ import annotations

from zembrel.verbtable.record import Verb
from zembrel.verbtable.shared import AREA, BETWEEN, CLOUDS, FORMAT, LAYERED, PHOTOS, TO_SHAPES

VERBS = (
    Verb(
        "rasterize",
        "write features to the cells of a frame",
        function="rasterize.rasterize",
        help="Write features to the cells of a frame. A cell belongs to the polygon that contains "
        "its centre, so that adjacent areas leave no gap and no overlap.",
        example="zembrel rasterize coast.geojson --onto landcover.tif --value 1 --out land.tif",
        ignored_options=(
            *CLOUDS,
            *PHOTOS,
            *BETWEEN,
            *LAYERED,
            *AREA,
            "inputs_from",
            "from_nodata",
            "from_layout",
            "bands",
            "keep_going",
        ),
        synonyms=("burn", "gridify"),
        lazy=True,
        revision=2,
    ),
    Verb(
        "polygonize",
        "convert regions of equal cells to polygons",
        function="polygonize.polygonize",
        help="Convert regions of equal cells to polygons along cell edges, with value, number of "
        "cells and true ground area. Nodata cells are left out.",
        example="zembrel polygonize landcover.tif --out landcover.gpkg",
        ignored_options=TO_SHAPES,
        synonyms=("vectorize", "outline"),
    ),
    Verb(
        "contour",
        "draw contour lines, or the areas between them",
        function="contour.contour",
        help="Draw lines of equal value, or the areas between them. Values refer to cell centres. By "
        "default there are about ten levels.",
        example="zembrel contour relief.tif --interval 20 --out lines.gpkg",
        ignored_options=TO_SHAPES,
        synonyms=("isolines", "isobands"),
        revision=2,
    ),
    Verb(
        "trace",
        "convert rasters of lines to polylines",
        function="trace.trace",
        help="Convert rasters of lines to polylines: lines are thinned to one cell and followed "
        "between ends and junctions. Each line has its value, number of cells and true length.",
        example="zembrel trace paths.tif --background 0 --spurs 5 --out paths.gpkg",
        ignored_options=TO_SHAPES,
        synonyms=("skeleton", "centerline", "centreline"),
    ),
    Verb(
        "centroids",
        "convert cells to points",
        function="centroids.centroids",
        help="Write a point at the centre of each valid cell, with a field for each band.",
        example="zembrel centroids landcover.tif --out cells.parquet",
        ignored_options=TO_SHAPES,
    ),
    Verb(
        "sample",
        "read cell values at points",
        function="sample.sample",
        help="Read values of rasters at points: a field for each band, and the names of classes.",
        example="zembrel sample relief.tif landcover.tif --at places.geojson --out places.csv",
        ignored_options=(*CLOUDS, *PHOTOS, *FORMAT, "ceiling", "keep_going"),
        synonyms=("lookup", "query", "pick"),
    ),
    Verb(
        "tally",
        "summarize features or cells per zone or cell",
        function="tally.tally",
        help="Count and summarize features or cells per zone, or features per cell of a frame "
        "(--onto or --cell). Cells on the edge of a zone count by the share inside it.",
        example="zembrel tally relief.tif --zones parcels.gpkg --stat mean --stat max --out "
        "parcels-height.gpkg",
        ignored_options=(*CLOUDS, *PHOTOS, *BETWEEN, *AREA, "keep_going"),
        synonyms=("summarize", "aggregate", "density"),
        revision=3,
    ),
)
