"""Verbs that check and show."""

from __future__ import annotations

from zembrel.verbtable.record import Verb
from zembrel.verbtable.shared import BETWEEN, CRSS, FIGURES, FORMAT, MADE, PHOTOS, PLACED, RAW, VECTORS

VERBS = (
    Verb(
        "compare",
        "how far two rasters differ",
        work="compare.compare",
        about="How far two rasters differ: bias, rms, percentiles and the worst place, the share within "
        "tolerances, how classes are confused, and an estimated shift. Exit code 1 if a limit "
        "does not hold.",
        example="zembrel compare landcover.tif again.tif --at-least share=1",
        without=FIGURES,
        synonyms=("diff", "difference", "subtract"),
        silent=True,
        revision=2,
    ),
    Verb(
        "profile",
        "values along a line",
        work="profile.profile",
        about="Values along a line for one or more layers, of any CRSs; distances are metres on the "
        "ellipsoid.",
        example="zembrel profile relief.tif degrees.tif --along corners --figure profile.png",
        without=FIGURES,
        synonyms=("crosssection", "section", "transect"),
        silent=True,
    ),
    Verb(
        "check",
        "does a file obey its format's rules?",
        work="check.check",
        about="Does a file obey the rules of its format? TIFF, GeoTIFF and the cloud-optimized layout, "
        "item by item; of any raster what its cells tell: seams, collars, leaked nodata, "
        "misplacement; of features every faulty geometry, which --out makes a layer of. Exit code "
        "1 if not.",
        example="zembrel check island.tif",
        without=(
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
        "a picture with ramp or legend and a scale bar",
        work="draw.draw",
        about="A picture of rasters side by side, of features, or of features over a raster: with ramp "
        "or legend, a scale bar, north, and the CRS and extent along its edges.",
        example="zembrel draw dem/relief.tif --shade --out relief.png",
        without=(*PHOTOS, *BETWEEN, *MADE, *PLACED, "classes", "mask", "dry_run"),
        synonyms=("plot", "view", "render", "preview", "map"),
        revision=2,
    ),
)
