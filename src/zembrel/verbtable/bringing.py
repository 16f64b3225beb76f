"""Verbs that bring the pieces together."""

from __future__ import annotations

from zembrel.verbtable.record import FEATURES, POINTS, RASTERS, SHELL, Handler, Verb
from zembrel.verbtable.shared import AREA, BETWEEN, CRSS, LAYERED, MENDED, NO_LAYERS, OTHER_KINDS

VERBS = (
    Verb(
        "source",
        "remote services by name, and what is kept of them",
        work="source.source",
        about="add NAME ADDRESS: describe a service in a file. list: all there are. show NAME: what its "
        "file says. test NAME: ask it what it offers. set NAME KEY=VALUE: another version, zoom "
        "or key. remove NAME. cache show or cache clear [NAME]: what is kept of answers.",
        example="zembrel source add ortho 'https://tiles.example/{z}/{x}/{y}.jpg' --kind xyz "
        "--set zooms=0-19",
        words=("ACTION", "WORD..."),
        without=(*NO_LAYERS, "out"),
        synonyms=("service", "services", "server"),
        needs_out=False,
        called=SHELL,
    ),
    Verb(
        "fetch",
        "what an area needs of a source",
        work="fetch.fetch",
        about="What an area needs of a source: imagery, heights or codes onto a frame, or points as "
        "they are. What came is kept, so that a run which was stopped asks only for what is "
        "missing.",
        example="zembrel fetch ortho --within circle:-24,46,1.5mi@EPSG:4326 --out ortho.tif",
        inputs="SOURCE is the name of one, or its file: see zembrel source list.",
        without=(
            *MENDED,
            *LAYERED,
            *CRSS,
            "inputs_from",
            "layer",
            "from_nodata",
            "from_layout",
            "trust_inputs",
            "keep_going",
        ),
        synonyms=("download", "get", "pull"),
        lazy=True,
    ),
    Verb(
        "pin",
        "place a scanned map by tie points",
        work="pin.pin",
        about="Place a scanned map by tie points. Columns and rows count from its upper left corner, x "
        "and y are in --crs. Residuals are shown, and a point that does not go with the others is "
        "named.",
        example="zembrel pin sketch.png --ties ties.csv --crs EPSG:32626 --out sketch.tif",
        without=(
            *OTHER_KINDS,
            *CRSS,
            "longest",
            *(name for name in AREA if name != "places"),
            *(name for name in BETWEEN if name != "average_codes"),
            "keep_going",
        ),
        synonyms=("georeference", "rectify", "rubbersheet"),
        lazy=True,
    ),
    Verb(
        "mosaic",
        "many layers into one",
        work="mosaic.mosaic",
        about="Many layers into one. Unlike CRSs and cell sizes are brought to one frame: the CRS of "
        "most cells, the finest cell size, the lattice of the first input that has both, unless "
        "you say otherwise.",
        example="zembrel mosaic ortho/ --trim-collar --out island.tif",
        ways={
            RASTERS: Handler("mosaic.of_rasters", "overlap method match_tone order table"),
            FEATURES: Handler("features.change.mosaic"),
            POINTS: Handler("points.mosaic.mosaic", "source_ids"),
        },
        without=("keep_going",),
        synonyms=("merge", "join", "stitch", "combine"),
        lazy=True,
    ),
    Verb(
        "stack",
        "several layers as bands of one",
        work="stack.stack",
        about="Several layers as bands of one, on one frame; bands of one-band files take the file's name.",
        example="zembrel stack red.tif green.tif blue.tif --out rgb.tif",
        without=(*OTHER_KINDS, "keep_going"),
        lazy=True,
    ),
)
