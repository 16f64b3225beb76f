"""Verbs that say where, and how fine."""

from __future__ import annotations

from zembrel.verbtable.record import SHELL, Verb
from zembrel.verbtable.shared import AREA, BETWEEN, MADE, NO_LAYERS, OTHER_KINDS, PLACED, RAW, WORK

VERBS = (
    Verb(
        "frame",
        "make, show and save a frame",
        work="frame.frame",
        about="A frame says where and how fine. Make one from rasters or an area; shown unless --out "
        "saves it.",
        example="zembrel frame --within square:-24,46,5km@EPSG:4326 --crs EPSG:32626 --cell 2m "
        "--out m.frame.toml",
        without=(*OTHER_KINDS, *MADE, "provenance", *RAW, *BETWEEN, "mask", "memory", *WORK),
        synonyms=("extent", "lattice"),
        silent=True,
        needs_out=False,
    ),
    Verb(
        "crs",
        "find, show and fit coordinate reference systems",
        work="crs.crs",
        about="find TEXT or AREA: CRSs by name or place. show CRS: what it is. fit LAYER or AREA: which "
        "ones suit it, with how far their scale is off there. operations CRS CRS: the ways from "
        "one to the other.",
        example="zembrel crs find UTM zone 26N",
        words=("ACTION", "WORD..."),
        synonyms=("srs", "epsg", "projection", "projections"),
        called=SHELL,
    ),
    Verb(
        "coords",
        "coordinates of one CRS into another",
        work="coords.coords",
        about="Coordinates from one CRS into another: lines x,y[,z] from stdin to stdout. Numbers or "
        "degrees, minutes and seconds (24 00 30 W, 46d0m30sN) are read; full precision is "
        'written. z changes where both CRSs say what heights mean ("EPSG:32626 + EPSG:5773"); '
        "what follows is carried along.",
        example="zembrel coords --from-crs EPSG:4326 --crs EPSG:32626 < points.csv",
        without=(*NO_LAYERS, *PLACED, *AREA, "crs", "average_codes"),
        synonyms=("coordinates",),
        needs_out=False,
        called=SHELL,
    ),
)
