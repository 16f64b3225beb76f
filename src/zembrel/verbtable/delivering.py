"""Verbs that deliver packs, and the one that tries them."""

from __future__ import annotations

from zembrel.verbtable.record import JOBS, Verb
from zembrel.verbtable.shared import CRSS, MADE, NO_LAYERS, OTHER_KINDS, PACK, PLACED, RASTER_PACK, RAW, WORK

VERBS = (
    Verb(
        "deliver pyramid",
        "make a tile pyramid",
        function="deliver.pyramid.pyramid",
        help="Make map tiles for phones, controllers and web maps: a folder/, .zip, .mbtiles, .gpkg "
        "or .pmtiles. The finest tiles are resampled from the source; each other tile is made "
        "of the four tiles below it.",
        example="zembrel deliver pyramid island.tif --out island.mbtiles",
        ignored_options=(*(name for name in RASTER_PACK if name != "flatten"), *PLACED, "crs"),
        synonyms=("pyramid", "tilepack"),
        revision=2,
    ),
    Verb(
        "deliver globe",
        "make a KMZ for virtual globes",
        function="deliver.globe.globe",
        help="Make a KMZ for virtual globes: images at full resolution as a tree of linked regions, "
        "features with their colours and values, and a legend.",
        example="zembrel deliver globe island.tif tracks.geojson --out island.kmz",
        ignored_options=(*PACK, *PLACED, "crs"),
        synonyms=("globe", "kmz"),
    ),
    Verb(
        "deliver chart",
        "make raster nautical charts",
        function="deliver.chart.chart",
        help="Make raster nautical charts (.kap) in Mercator with up to 127 colours, reference "
        "points and polynomials. All inputs become one chart.kap; with a folder/ each input "
        "becomes a chart, with a catalogue.",
        example="zembrel deliver chart island.tif --scale 25000 --out island.kap",
        ignored_options=(*RASTER_PACK, *PLACED, "crs"),
        synonyms=("chart", "kap"),
    ),
    Verb(
        "deliver heightmap",
        "make terrain for simulation engines",
        function="deliver.heightmap.heightmap",
        help="Make terrain for simulation engines: a raw square of 16-bit heights, overlay images of "
        "the same square, and a TOML file with its measures and the values to enter in the "
        "engine.",
        example="zembrel deliver heightmap relief.tif --overlay island.tif --out engine/",
        ignored_options=(*RASTER_PACK, *PLACED, "mask"),
        synonyms=("heightfield", "rawterrain"),
        revision=2,
    ),
    Verb(
        "deliver hgt",
        "write heights as one-degree cells",
        function="deliver.hgt.hgt",
        help="Write heights as one-degree cells that cover an area, named like N46W024.hgt. --cell "
        "sets 1arcsec or 3arcsec; the default depends on the source.",
        example="zembrel deliver hgt dem/ --cell 1arcsec --out cells/",
        ignored_options=(*RASTER_PACK, "onto", "crs"),
        synonyms=("hgt", "degreecells"),
        revision=3,
    ),
    Verb(
        "deliver chips",
        "make image chips for training",
        function="deliver.chips.chips",
        help="Make image chips with labels for training, in a folder/, .zarr, numbered .tar or "
        ".tfrecord. Chips are split by ground, with an index (Parquet) and statistics for "
        "normalization.",
        example="zembrel deliver chips island.tif --labels landcover.tif --validation 0.2 --out chips/",
        ignored_options=RASTER_PACK,
        synonyms=("chips", "patches"),
        revision=2,
    ),
    Verb(
        "deliver film",
        "make a film from dated images",
        function="deliver.film.film",
        help="Make a film from dated images, or from the bands of one raster: .mp4 (needs "
        "zembrel[film]), .gif or .webp. Dates come from file or band names. All images have one "
        "size and one value range.",
        example="zembrel deliver film years/ --rate 2 --out island.mp4",
        ignored_options=RASTER_PACK,
        synonyms=("film", "animate", "video", "timelapse"),
    ),
    Verb(
        "deliver carry",
        "copy packs to a device",
        function="deliver.carry.carry",
        help="Copy existing packs to a device. All packs are checked against the rules of the device "
        "before the first copy, and each copy is verified.",
        example="zembrel deliver carry island.mbtiles island.kmz --carry-to /media/phone --device phone",
        inputs="INPUT is a pack: a file, a folder or a quoted pattern.",
        ignored_options=(
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
        "check whether a device accepts a pack",
        function="standin.device",
        help="Check whether a simulated device accepts a pack: controller (tiles in a folder or "
        "zip), phone (.mbtiles, .pmtiles, .kmz), plotter (.kap) or engine (the folder of a "
        "heightmap). Each device reads packs by published rules, with separate code. Exit code "
        "1 if it rejects the pack.",
        example="zembrel standin device phone island.mbtiles --figure phone.png",
        arguments=("NAME", "PACK"),
        ignored_options=(*NO_LAYERS, "out"),
        silent=True,
        callers=JOBS,
    ),
)
