"""Verbs between cells and shapes."""

from __future__ import annotations

from zembrel.verbtable.record import Verb
from zembrel.verbtable.shared import AREA, BETWEEN, CLOUDS, FORMAT, LAYERED, PHOTOS, TO_SHAPES

VERBS = (
    Verb(
        "rasterize",
        "features onto the cells of a frame",
        work="rasterize.rasterize",
        about="Features onto the cells of a frame. A cell belongs to the polygon its middle lies in, so "
        "that areas that share an edge leave no gap and no overlap.",
        example="zembrel rasterize coast.geojson --onto landcover.tif --value 1 --out land.tif",
        without=(
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
        "regions of equal cells to polygons",
        work="polygonize.polygonize",
        about="Regions of equal cells as polygons along the edges of cells, with value, cells and true "
        "ground area. Invalid cells are left out.",
        example="zembrel polygonize landcover.tif --out landcover.gpkg",
        without=TO_SHAPES,
        synonyms=("vectorize", "outline"),
    ),
    Verb(
        "contour",
        "lines of equal value, or areas between them",
        work="contour.contour",
        about="Lines of equal value, or the areas between them. Values stand in the middle of cells; "
        "about ten levels if nobody says.",
        example="zembrel contour relief.tif --interval 20 --out lines.gpkg",
        without=TO_SHAPES,
        synonyms=("isolines", "isobands"),
        revision=2,
    ),
    Verb(
        "trace",
        "rasters of lines to polylines",
        work="trace.trace",
        about="Rasters of lines as polylines: thinned to one cell, and followed from end or junction to "
        "the next. Each line has its value, cells and true length.",
        example="zembrel trace paths.tif --background 0 --spurs 5 --out paths.gpkg",
        without=TO_SHAPES,
        synonyms=("skeleton", "centerline", "centreline"),
    ),
    Verb(
        "centroids",
        "cells to points",
        work="centroids.centroids",
        about="A point in the middle of each valid cell, with a field for each band.",
        example="zembrel centroids landcover.tif --out cells.parquet",
        without=TO_SHAPES,
    ),
    Verb(
        "sample",
        "cell values at points",
        work="sample.sample",
        about="Values of rasters at points: a field for each band, and the names of classes.",
        example="zembrel sample relief.tif landcover.tif --at places.geojson --out places.csv",
        without=(*CLOUDS, *PHOTOS, *FORMAT, "ceiling", "keep_going"),
        synonyms=("lookup", "query", "pick"),
    ),
    Verb(
        "tally",
        "features or cells summed up per zone or cell",
        work="tally.tally",
        about="Features or cells counted and summed up per zone, or features per cell of a frame "
        "(--onto, or --cell). Cells on the edge of a zone count by the share that is inside.",
        example="zembrel tally relief.tif --zones parcels.gpkg --stat mean --stat max --out "
        "parcels-height.gpkg",
        without=(*CLOUDS, *PHOTOS, *BETWEEN, *AREA, "keep_going"),
        synonyms=("summarize", "aggregate", "density"),
        revision=3,
    ),
)
