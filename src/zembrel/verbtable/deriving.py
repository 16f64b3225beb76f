"""Verbs that derive new layers from others."""

from __future__ import annotations

from zembrel.verbtable.record import Verb
from zembrel.verbtable.shared import OTHER_KINDS, RETYPE

VERBS = (
    Verb(
        "terrain",
        "compute slope, aspect, hillshade and more",
        function="terrain.terrain",
        help="Compute slope, aspect, hillshade and more from heights. Edge cells are computed; "
        "nodata cells stay nodata.",
        example="zembrel terrain relief.tif --of slope --of aspect --out steepness.tif",
        ignored_options=OTHER_KINDS,
        lazy=True,
        each=True,
        revision=2,
    ),
    Verb(
        "derive",
        "calculate bands from formulas",
        function="derive.derive",
        help="Calculate a band for each formula over named layers, on the frame of the first layer.\n\n"
        "With INPUT, formulas use the band names of each input, and each input has its own "
        "result.",
        example='zembrel derive --let s=scene.tif --formula "(s.nir - s.red) / (s.nir + s.red)" '
        "--out ndx.tif",
        ignored_options=OTHER_KINDS,
        synonyms=("calculate", "calc", "formula", "algebra", "compute"),
        lazy=True,
        each=True,
        revision=2,
    ),
    Verb(
        "classify",
        "classify values, codes or conditions",
        function="classify.classify",
        help="Classify values, codes or conditions into classes with names and colours.",
        example="zembrel classify slope.tif --rule 'gentle: value < 5' --otherwise steep --out steepness.tif",
        ignored_options=OTHER_KINDS,
        synonyms=("reclassify", "reclass", "recode", "threshold", "slice"),
        lazy=True,
        each=True,
        revision=2,
    ),
    Verb(
        "paint",
        "convert cells to georeferenced colours",
        function="paint.paint",
        help="Convert cells to georeferenced colours, by a colour ramp or their legend, with "
        "optional shading.",
        example="zembrel paint relief.tif --shade --out relief-colours.tif",
        ignored_options=(*OTHER_KINDS, "bands", *RETYPE),
        synonyms=("colour", "color", "colorize", "shade"),
        lazy=True,
        each=True,
    ),
)
