"""Verbs that change the grid, and those for points alone."""

from __future__ import annotations

from zembrel.verbtable.record import EVERY, FEATURES, POINTS, RASTERS, Handler, Verb
from zembrel.verbtable.shared import LAYERED, MENDED, OF_POINTS, OTHER_KINDS, PHOTOS, RAW, VECTORS

VERBS = (
    Verb(
        "clip",
        "keep an area",
        work="clip.clip",
        about="Keep an area. Native cells stay as they are unless --onto, --cell or --crs ask for "
        "others; an outline keeps the cells whose middle it holds.",
        example="zembrel clip island.tif --within coast.geojson --out land.tif",
        ways={
            RASTERS: Handler("clip.of_rasters", "touching outside feather method"),
            FEATURES: Handler("features.change.clip", "touching outside"),
            POINTS: Handler("points.change.clip", "outside keep_bounds"),
        },
        without=("mask",),
        synonyms=("crop", "cut", "trim", "extract"),
        lazy=True,
        each=True,
    ),
    Verb(
        "tile",
        "cut into sheets",
        work="tile.tile",
        about="Cut into sheets that meet without gap or overlap. Several inputs are seen as one, the "
        "first valid winning; sheets without a valid cell are left out.",
        example="zembrel tile island.tif --size 2km --index sheets.gpkg --out sheets/",
        ways={
            RASTERS: Handler("tile.of_rasters", EVERY),
            POINTS: Handler("points.tile.tile", "split size at_most by margin name index resume"),
        },
        without=(*MENDED, *PHOTOS, *LAYERED, "mask", "keep_going"),
        synonyms=("split", "chop", "sheets"),
    ),
    Verb(
        "mask",
        "blank by another layer or a condition",
        work="mask.mask",
        about="Blank cells where another layer is empty, or where a condition holds.",
        example="zembrel mask relief.tif --where 'value < 1' --out hills.tif",
        without=OTHER_KINDS,
        synonyms=("blank", "null", "erase"),
        lazy=True,
        each=True,
    ),
    Verb(
        "fill",
        "close voids within a reach",
        work="fill.fill",
        about="Close voids from their rims, as far as a reach goes; what lies deeper stays void.",
        example="zembrel fill relief.tif --reach 50m --out closed.tif",
        without=OTHER_KINDS,
        synonyms=("interpolate", "patch", "close"),
        lazy=True,
        each=True,
    ),
    Verb(
        "resample",
        "a new cell size",
        work="resample.resample",
        about="A new cell size. When cells grow, every source cell counts: nothing aliases.",
        example="zembrel resample dem/relief.tif --cell 50m --out coarse.tif",
        without=(*VECTORS, *LAYERED),
        synonyms=("rescale", "downsample", "upsample", "resize"),
        lazy=True,
        each=True,
    ),
    Verb(
        "reproject",
        "a new CRS",
        work="resample.reproject",
        about="A new CRS at native resolution, unless --cell says otherwise. Several results share one "
        "lattice.",
        example="zembrel reproject island.tif --crs EPSG:3857 --out web.tif",
        ways={
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
        "another format or cell type",
        work="convert.convert",
        about="Another format or cell type. What would lose values is refused unless you say how.",
        example="zembrel convert island.tif --out island.png",
        ways={
            RASTERS: Handler(
                "convert.of_rasters",
                "stretch rgb palette dither scaled unscaled z_unit from_z_unit each_band",
            ),
            FEATURES: Handler("features.change.convert"),
            POINTS: Handler("points.change.convert", "resume"),
        },
        without=PHOTOS,
        synonyms=("export", "save", "change"),
        lazy=True,
        each=True,
        revision=2,
    ),
    Verb(
        "thin",
        "fewer points",
        work="points.thin.thin",
        about="Fewer points, in the order they had: every Nth, a share by chance, the best of each "
        "cell, or points that keep a distance.",
        example="zembrel thin lidar/l2.laz --cell 2m --best lowest --out thin.laz",
        without=OF_POINTS,
        synonyms=("decimate", "subsample", "sparsify"),
        revision=2,
    ),
    Verb(
        "ground",
        "find the points of the ground",
        work="points.ground.ground",
        about="Find the ground points of a cloud and set their class to 2.\n\n"
        "Objects that rise on all sides, such as roofs and bushes, are removed. Other points of "
        "class 2 become class 1. Noise and water keep their class.",
        example="zembrel ground raw.las --out ground.laz",
        without=OF_POINTS,
        synonyms=("bareearth", "terrainpoints"),
        revision=2,
    ),
    Verb(
        "grid",
        "points to the cells of a frame",
        work="points.grid.grid",
        about="Points to the cells of a frame. A void is bridged where no circle of more than --fill "
        "radius fits between points, so that nothing is made up beyond it.",
        example="zembrel grid lidar/ --classes 2 --surface tin --cell 1m --out terrain.tif",
        without=(
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
