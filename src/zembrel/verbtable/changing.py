"""Verbs that change the grid, and those for points alone."""

from __future__ import annotations

from zembrel.verbtable.record import EVERY, FEATURES, POINTS, RASTERS, Handler, Verb
from zembrel.verbtable.shared import LAYERED, MENDED, OF_POINTS, OTHER_KINDS, PHOTOS, RAW, VECTORS

VERBS = (
    Verb(
        "clip",
        "cut out an area",
        function="clip.clip",
        help="Cut out an area. Cells stay unchanged unless --onto, --cell or --crs ask for a new "
        "grid. An outline keeps the cells whose centre is inside.",
        example="zembrel clip island.tif --within coast.geojson --out land.tif",
        handlers={
            RASTERS: Handler("clip.of_rasters", "touching outside feather method"),
            FEATURES: Handler("features.change.clip", "touching outside"),
            POINTS: Handler("points.change.clip", "outside keep_bounds"),
        },
        ignored_options=("mask",),
        synonyms=("crop", "cut", "trim", "extract"),
        lazy=True,
        each=True,
    ),
    Verb(
        "tile",
        "cut a layer into sheets",
        function="tile.tile",
        help="Cut a layer into sheets without gaps or overlaps. Several inputs are treated as one "
        "layer, and the first valid value is used. Sheets without data are left out.",
        example="zembrel tile island.tif --size 2km --index sheets.gpkg --out sheets/",
        handlers={
            RASTERS: Handler("tile.of_rasters", EVERY),
            POINTS: Handler("points.tile.tile", "split size at_most by margin name index resume"),
        },
        ignored_options=(*MENDED, *PHOTOS, *LAYERED, "mask", "keep_going"),
        synonyms=("split", "chop", "sheets"),
    ),
    Verb(
        "mask",
        "blank cells by another layer or a condition",
        function="mask.mask",
        help="Blank cells where another layer has no data, or where a condition holds.",
        example="zembrel mask relief.tif --where 'value < 1' --out hills.tif",
        ignored_options=OTHER_KINDS,
        synonyms=("blank", "null", "erase"),
        lazy=True,
        each=True,
    ),
    Verb(
        "fill",
        "fill nodata gaps",
        function="fill.fill",
        help="Fill nodata gaps from their edges, up to a distance. Cells farther from data stay nodata.",
        example="zembrel fill relief.tif --reach 50m --out closed.tif",
        ignored_options=OTHER_KINDS,
        synonyms=("interpolate", "patch", "close"),
        lazy=True,
        each=True,
    ),
    Verb(
        "resample",
        "change the cell size",
        function="resample.resample",
        help="Change the cell size. When cells grow, all source cells contribute, so that nothing aliases.",
        example="zembrel resample dem/relief.tif --cell 50m --out coarse.tif",
        ignored_options=(*VECTORS, *LAYERED),
        synonyms=("rescale", "downsample", "upsample", "resize"),
        lazy=True,
        each=True,
    ),
    Verb(
        "reproject",
        "change the CRS",
        function="resample.reproject",
        help="Change the CRS at native resolution, or at --cell. Several results share one lattice.",
        example="zembrel reproject island.tif --crs EPSG:3857 --out web.tif",
        handlers={
            RASTERS: Handler("resample.reproject_rasters", "method"),
            FEATURES: Handler("features.change.reproject"),
            POINTS: Handler("points.change.reproject"),
        },
        synonyms=("transform", "project"),
        lazy=True,
        each=True,
    ),
    Verb(
        "convert",
        "change the format or the cell type",
        function="convert.convert",
        help="Change the format or the cell type. Conversions that would lose values are refused "
        "unless an option allows them.",
        example="zembrel convert island.tif --out island.png",
        handlers={
            RASTERS: Handler(
                "convert.of_rasters",
                "stretch rgb palette dither scaled unscaled z_unit from_z_unit each_band",
            ),
            FEATURES: Handler("features.change.convert"),
            POINTS: Handler("points.change.convert", "resume"),
        },
        ignored_options=PHOTOS,
        synonyms=("export", "save", "change"),
        lazy=True,
        each=True,
        revision=2,
    ),
    Verb(
        "thin",
        "reduce the number of points",
        function="points.thin.thin",
        help="Reduce the number of points and keep their order: every Nth point, a random share, the "
        "best of each cell, or points at a minimum spacing.",
        example="zembrel thin lidar/l2.laz --cell 2m --best lowest --out thin.laz",
        ignored_options=OF_POINTS,
        synonyms=("decimate", "subsample", "sparsify"),
        revision=2,
    ),
    Verb(
        "ground",
        "find ground points",
        function="points.ground.ground",
        help="Find the ground points of a cloud and set their class to 2.\n\n"
        "Objects that rise on all sides, such as roofs and bushes, are removed. Other points of "
        "class 2 become class 1. Noise and water keep their class.",
        example="zembrel ground raw.las --out ground.laz",
        ignored_options=OF_POINTS,
        synonyms=("bareearth", "terrainpoints"),
        revision=2,
    ),
    Verb(
        "grid",
        "grid points to a raster",
        function="points.grid.grid",
        help="Grid points to the cells of a frame. A gap is filled only where every circle between "
        "points has a radius of at most --fill, so that larger gaps stay nodata.",
        example="zembrel grid lidar/ --classes 2 --surface tin --cell 1m --out terrain.tif",
        ignored_options=(
            *MENDED,
            *PHOTOS,
            *LAYERED,
            *RAW,
            "fields",
            "longest",
            "z_unit",
            "from_z_unit",
            "average_codes",
            "keep_going",
        ),
        synonyms=("surface", "interpolatepoints", "pointstoraster"),
        lazy=True,
    ),
)
