"""Verbs that derive new layers from others."""

from __future__ import annotations

from zembrel.verbtable.record import Verb
from zembrel.verbtable.shared import OTHER_KINDS, RETYPE

VERBS = (
    Verb(
        "terrain",
        "slope, aspect, light and more of heights",
        work="terrain.terrain",
        about="Slope, aspect, light and more of a layer of heights. Edges are computed; what is void "
        "stays void.",
        example="zembrel terrain relief.tif --of slope --of aspect --out steepness.tif",
        without=OTHER_KINDS,
        lazy=True,
        each=True,
        revision=2,
    ),
    Verb(
        "derive",
        "plain algebra over named layers and bands",
        work="derive.derive",
        about="Plain algebra over named layers: a band for each formula, on the frame of the first "
        "layer.\n\n"
        "With INPUT the bands of each go by their own names, and each has its own result.",
        example='zembrel derive --let s=scene.tif --formula "(s.nir - s.red) / (s.nir + s.red)" '
        "--out ndx.tif",
        without=OTHER_KINDS,
        synonyms=("calculate", "calc", "formula", "algebra", "compute"),
        lazy=True,
        each=True,
        revision=2,
    ),
    Verb(
        "classify",
        "values, codes or conditions to classes",
        work="classify.classify",
        about="Values, codes or conditions to classes with names and colours.",
        example="zembrel classify slope.tif --rule 'gentle: value < 5' --otherwise steep --out steepness.tif",
        without=OTHER_KINDS,
        synonyms=("reclassify", "reclass", "recode", "threshold", "slice"),
        lazy=True,
        each=True,
        revision=2,
    ),
    Verb(
        "paint",
        "cells to georeferenced colours",
        work="paint.paint",
        about="Cells to georeferenced colours, by a ramp or their legend, shaded if asked.",
        example="zembrel paint relief.tif --shade --out relief-colours.tif",
        without=(*OTHER_KINDS, "bands", *RETYPE),
        synonyms=("colour", "color", "colorize", "shade"),
        lazy=True,
        each=True,
    ),
)
