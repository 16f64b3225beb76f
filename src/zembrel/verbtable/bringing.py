"""Verbs that bring the pieces together."""

from __future__ import annotations

from zembrel.verbtable.record import FEATURES, POINTS, RASTERS, SHELL, Handler, Verb
from zembrel.verbtable.shared import AREA, BETWEEN, CRSS, LAYERED, MENDED, NO_LAYERS, OTHER_KINDS

VERBS = (
    Verb(
        "source",
        "manage remote services and their cache",
        function="source.source",
        help="add NAME ADDRESS: describe a service in a file. list: list all sources. show NAME: "
        "show the source file. test NAME: ask the service what it offers. set NAME KEY=VALUE: "
        "change a version, zoom or key. remove NAME: remove a source. cache show, cache clear "
        "[NAME]: show or clear cached responses.",
        example="zembrel source add ortho 'https://tiles.example/{z}/{x}/{y}.jpg' --kind xyz "
        "--set zooms=0-19",
        arguments=("ACTION", "WORD..."),
        ignored_options=(*NO_LAYERS, "out"),
        synonyms=("service", "services", "server"),
        needs_out=False,
        callers=SHELL,
    ),
    Verb(
        "fetch",
        "download an area from a source",
        function="fetch.fetch",
        help="Download the data of a source for an area: imagery, heights or codes on a frame, or "
        "points unchanged. Responses are cached, so an interrupted run requests only what is "
        "missing.",
        example="zembrel fetch ortho --within circle:-24,46,1.5mi@EPSG:4326 --out ortho.tif",
        input_word="SOURCE",
        inputs="SOURCE is the name of a source, or a source file; see zembrel source list.",
        ignored_options=(
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
        "georeference a scanned map by tie points",
        function="pin.pin",
        help="Georeference a scanned map by tie points. Columns and rows count from its upper left "
        "corner; x and y are in --crs. The receipt lists the residuals and names points that do "
        "not fit the others.",
        example="zembrel pin sketch.png --ties ties.csv --crs EPSG:32626 --out sketch.tif",
        ignored_options=(
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
        "merge many layers into one",
        function="mosaic.mosaic",
        help="Merge many layers into one. The result has the CRS of most cells, the finest cell "
        "size, and the lattice of the first input with both, unless you choose otherwise.",
        example="zembrel mosaic ortho/ --trim-collar --out island.tif",
        handlers={
            RASTERS: Handler("mosaic.of_rasters", "overlap method match_tone order table"),
            FEATURES: Handler("features.change.mosaic"),
            POINTS: Handler("points.mosaic.mosaic", "source_ids"),
        },
        ignored_options=("keep_going",),
        synonyms=("merge", "join", "stitch", "combine"),
        lazy=True,
    ),
    Verb(
        "stack",
        "combine layers as bands of one",
        function="stack.stack",
        help="Combine several layers as bands of one layer on one frame. Bands of single-band files "
        "get the name of the file.",
        example="zembrel stack red.tif green.tif blue.tif --out rgb.tif",
        ignored_options=(*OTHER_KINDS, "keep_going"),
        lazy=True,
    ),
)
