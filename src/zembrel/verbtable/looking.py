"""Verbs that look at what came in."""

from __future__ import annotations

from zembrel.verbtable.record import EVERY, FEATURES, POINTS, RASTERS, SHELL, Handler, Verb
from zembrel.verbtable.shared import CRSS, FORMAT, MADE, MENDED, OTHER_KINDS, PHOTOS, PICKED, RAW, WORK

VERBS = (
    Verb(
        "describe",
        "what a layer is; several side by side",
        work="describe.describe",
        about="What a layer is: CRS, extent, cell size, bands, type, nodata. Several inputs stand side "
        "by side, and a * marks the rows in which they differ.",
        example="zembrel describe ortho/m1.tif ortho/m4.tif --stats",
        ways={
            RASTERS: Handler("describe.of_rasters", EVERY),
            FEATURES: Handler("features.facts.describe", "stats at"),
            POINTS: Handler("points.facts.describe", "stats"),
        },
        without=(*PHOTOS, *MADE, "provenance", "out", "dry_run"),
        synonyms=("info", "inspect", "show", "stats"),
        silent=True,
    ),
    Verb(
        "index",
        "extents of many files as features",
        work="index.index",
        about="Extents of many files as polygons, with path, CRS, cell size, bands and type of each.",
        example="zembrel index ortho/ --out sheets.geojson",
        ways={
            RASTERS: Handler("index.of_rasters"),
            POINTS: Handler("points.index.index"),
        },
        without=(
            *PICKED,
            *MENDED,
            *PHOTOS,
            *FORMAT,
            *RAW,
            "classes",
            "returns",
            "ceiling",
            "memory",
            *WORK,
            "keep_going",
            "keep_empty",
        ),
        synonyms=("footprints", "catalogue"),
        revision=2,
    ),
    Verb(
        "label",
        "mend what a file says of itself, not its cells",
        work="label.label",
        about="Mend what a file says of itself; its cells stay as they are, byte by byte. Without --out "
        "the file itself is mended, whole or not at all.",
        example="zembrel label scan.tif --crs EPSG:32626 --nodata 0",
        without=(*OTHER_KINDS, *MADE, "provenance", *RAW, *CRSS),
        synonyms=("assign", "edit", "tag"),
        needs_out=False,
    ),
    Verb(
        "formats",
        "what can be read and written",
        work="formats.formats",
        about="What can be read and written, and what each format can hold. NAME: one format, "
        "with its options.",
        example="zembrel formats geotiff",
        words=("[NAME]",),
        synonyms=("drivers", "types"),
        called=SHELL,
    ),
)
