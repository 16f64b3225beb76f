"""Verbs that check and show."""

from __future__ import annotations

from zembrel.verbtable.record import Verb
from zembrel.verbtable.shared import BETWEEN, CRSS, FIGURES, FORMAT, MADE, PHOTOS, PLACED, RAW, VECTORS

VERBS = (
    Verb(
        "compare",
        "measure the difference between two rasters",
        function="compare.compare",
        help="Measure the difference between two rasters: bias, rms, percentiles and the worst "
        "place, the share within tolerances, a confusion table for classes, and an estimated "
        "shift. Exit code 1 if a limit does not hold.",
        example="zembrel compare landcover.tif again.tif --at-least share=1",
        ignored_options=FIGURES,
        synonyms=("diff", "difference", "subtract"),
        silent=True,
        revision=2,
    ),
    Verb(
        "profile",
        "read values along a line",
        function="profile.profile",
        help="Read values along a line from one or more layers in any CRS. Distances are metres on "
        "the ellipsoid.",
        example="zembrel profile relief.tif degrees.tif --along corners --figure profile.png",
        ignored_options=FIGURES,
        synonyms=("crosssection", "section", "transect"),
        silent=True,
    ),
    Verb(
        "check",
        "check files against the rules of their format",
        function="check.check",
        help="Check files against the rules of TIFF, GeoTIFF and the cloud-optimized layout; the "
        "cells of rasters for seams, collars, leaked nodata values and misplacement; and the "
        "geometries of features. --out writes the faults as a layer. Exit code 1 if there is a "
        "fault.",
        example="zembrel check island.tif",
        ignored_options=(
            *VECTORS,
            *PHOTOS,
            *FORMAT,
            *RAW,
            *CRSS,
            "provenance",
            "dry_run",
            "ceiling",
            "keep_going",
            "keep_empty",
        ),
        synonyms=("validate", "verify", "lint"),
        silent=True,
        needs_out=False,
    ),
    Verb(
        "draw",
        "draw a map image",
        function="draw.draw",
        help="Draw rasters side by side, features, or features over a raster, with a colour ramp or "
        "legend, a scale bar, a north arrow, the CRS and the extent.",
        example="zembrel draw dem/relief.tif --shade --out relief.png",
        ignored_options=(*PHOTOS, *BETWEEN, *MADE, *PLACED, "classes", "mask", "dry_run"),
        synonyms=("plot", "view", "render", "preview", "map"),
        revision=2,
    ),
)
