"""Verbs that deliver packs, and the one that tries them."""

from __future__ import annotations

from zembrel.verbtable.record import JOBS, Verb
from zembrel.verbtable.shared import CRSS, MADE, NO_LAYERS, OTHER_KINDS, PACK, PLACED, RASTER_PACK, RAW, WORK

VERBS = (
    Verb(
        "deliver pyramid",
        "tiles of many zooms, in a pack",
        work="deliver.pyramid.pyramid",
        about="Tiles of many zooms for phones, controllers and web maps: a folder/, .zip, .mbtiles, "
        ".gpkg or .pmtiles. The finest tiles are resampled once from the source, all others made "
        "of the four below them.",
        example="zembrel deliver pyramid island.tif --out island.mbtiles",
        without=(*(name for name in RASTER_PACK if name != "flatten"), *PLACED, "crs"),
        synonyms=("pyramid", "tilepack"),
        revision=2,
    ),
    Verb(
        "deliver globe",
        "pictures and features for virtual globes",
        work="deliver.globe.globe",
        about="A KMZ for virtual globes: pictures at full resolution as a tree of linked regions, "
        "features with their colours and values over them, and a key.",
        example="zembrel deliver globe island.tif tracks.geojson --out island.kmz",
        without=(*PACK, *PLACED, "crs"),
        synonyms=("globe", "kmz"),
    ),
    Verb(
        "deliver chart",
        "raster nautical charts, and their catalogue",
        work="deliver.chart.chart",
        about="Raster nautical charts (.kap) in Mercator: at most 127 colours, reference points and "
        "polynomials both ways. All inputs are one chart.kap; into a folder/ each is a chart, "
        "with a catalogue of them.",
        example="zembrel deliver chart island.tif --scale 25000 --out island.kap",
        without=(*RASTER_PACK, *PLACED, "crs"),
        synonyms=("chart", "kap"),
    ),
    Verb(
        "deliver heightmap",
        "terrain for simulation engines",
        work="deliver.heightmap.heightmap",
        about="Terrain for simulation engines: a raw square of 16-bit heights, overlays of just that "
        "square, and a TOML file with its measures and the sentence to type into the engine.",
        example="zembrel deliver heightmap relief.tif --overlay island.tif --out engine/",
        without=(*RASTER_PACK, *PLACED, "mask"),
        synonyms=("heightfield", "rawterrain"),
        revision=2,
    ),
    Verb(
        "deliver hgt",
        "heights as cells of one degree",
        work="deliver.hgt.hgt",
        about="Heights as cells of one degree, all that cover an area, by their names (N46W024.hgt): "
        "heights every --cell 1arcsec or 3arcsec, by the native cells if not said.",
        example="zembrel deliver hgt dem/ --cell 1arcsec --out cells/",
        without=(*RASTER_PACK, "onto", "crs"),
        synonyms=("hgt", "degreecells"),
        revision=3,
    ),
    Verb(
        "deliver chips",
        "squares with labels, for training",
        work="deliver.chips.chips",
        about="Chips for training: squares of an image with their labels, in a folder/, .zarr, numbered "
        ".tar or .tfrecord, split by ground, with an index (Parquet) and the statistics that "
        "learners normalize by.",
        example="zembrel deliver chips island.tif --labels landcover.tif --validation 0.2 --out chips/",
        without=RASTER_PACK,
        synonyms=("chips", "patches"),
        revision=2,
    ),
    Verb(
        "deliver film",
        "dated images one after the other",
        work="deliver.film.film",
        about="A film of dated images, or of the bands of one raster: .mp4 (needs zembrel[film]), .gif "
        "or .webp. Dates are in the names of files or bands; all pictures have one size and one "
        "range of values.",
        example="zembrel deliver film years/ --rate 2 --out island.mp4",
        without=RASTER_PACK,
        synonyms=("film", "animate", "video", "timelapse"),
    ),
    Verb(
        "deliver carry",
        "packs that exist, to a device",
        work="deliver.carry.carry",
        about="Copy packs that exist to a device. All packs are checked against the rules of the device "
        "before the first is copied, and each copy is verified.",
        example="zembrel deliver carry island.mbtiles island.kmz --carry-to /media/phone --device phone",
        inputs="INPUT is a pack: a file, a folder or a quoted pattern.",
        without=(
            *OTHER_KINDS,
            *MADE,
            "provenance",
            "out",
            *RAW,
            *CRSS,
            "inputs_from",
            "trust_inputs",
            "offline",
            "memory",
            *WORK,
        ),
        silent=True,
    ),
    Verb(
        "standin device",
        "would a device accept a pack?",
        work="standin.device",
        about="NAME PACK: does a device accept a pack? controller (tiles in a folder or zip), phone "
        "(.mbtiles, .pmtiles, .kmz), plotter (.kap), engine (the folder of a heightmap). Each "
        "reads by published rules, with code of its own. Exit code 1 if it rejects.",
        example="zembrel standin device phone island.mbtiles --figure phone.png",
        words=("NAME", "PACK"),
        without=(*NO_LAYERS, "out"),
        silent=True,
        called=JOBS,
    ),
)
