"""Verbs that say where, and how fine."""

from __future__ import annotations

from zembrel.verbtable.record import SHELL, Verb
from zembrel.verbtable.shared import AREA, BETWEEN, MADE, NO_LAYERS, OTHER_KINDS, PLACED, RAW, WORK

VERBS = (
    Verb(
        "frame",
        "make, show and save a frame",
        function="frame.frame",
        help="Make a frame from rasters or an area: its CRS, extent and cell size. --out saves the "
        "frame; otherwise it is shown.",
        example="zembrel frame --within square:-24,46,5km@EPSG:4326 --crs EPSG:32626 --cell 2m "
        "--out m.frame.toml",
        ignored_options=(*OTHER_KINDS, *MADE, "provenance", *RAW, *BETWEEN, "mask", "memory", *WORK),
        synonyms=("extent", "lattice"),
        silent=True,
        needs_out=False,
    ),
    Verb(
        "crs",
        "find, show and choose coordinate reference systems",
        function="crs.crs",
        help="find TEXT or AREA: find CRSs by name or place. show CRS: describe a CRS. fit LAYER or "
        "AREA: list suitable CRSs with their scale error there. operations CRS CRS: list the "
        "transformations between two CRSs.",
        example="zembrel crs find UTM zone 26N",
        arguments=("ACTION", "WORD..."),
        synonyms=("srs", "epsg", "projection", "projections"),
        callers=SHELL,
    ),
    Verb(
        "coords",
        "convert coordinates from one CRS to another",
        function="coords.coords",
        help="Convert lines x,y[,z] from one CRS to another, from stdin to stdout. Coordinates are "
        "numbers, or degrees, minutes and seconds (24 00 30 W, 46d0m30sN), and are written in "
        'full precision. z changes if both CRSs define heights ("EPSG:32626 + EPSG:5773"). '
        "Further columns are copied.",
        example="zembrel coords --from-crs EPSG:4326 --crs EPSG:32626 < points.csv",
        ignored_options=(*NO_LAYERS, *PLACED, *AREA, "crs", "average_codes"),
        synonyms=("coordinates",),
        needs_out=False,
        callers=SHELL,
    ),
)
