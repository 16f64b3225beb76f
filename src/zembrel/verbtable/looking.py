"""Verbs that look at what came in."""

from __future__ import annotations

from zembrel.verbtable.record import EVERY, FEATURES, POINTS, RASTERS, SHELL, Handler, Verb
from zembrel.verbtable.shared import CRSS, FORMAT, MADE, MENDED, OTHER_KINDS, PHOTOS, PICKED, RAW, WORK

VERBS = (
    Verb(
        "describe",
        "describe layers, side by side",
        function="describe.describe",
        help="Show CRS, extent, cell size, bands, type and nodata of a layer. Several inputs are "
        "shown side by side; a * marks the rows that differ.",
        example="zembrel describe ortho/m1.tif ortho/m4.tif --stats",
        handlers={
            RASTERS: Handler("describe.of_rasters", EVERY),
            FEATURES: Handler("features.facts.describe", "stats at"),
            POINTS: Handler("points.facts.describe", "stats"),
        },
        ignored_options=(*PHOTOS, *MADE, "provenance", "out", "dry_run"),
        synonyms=("info", "inspect", "show", "stats"),
        silent=True,
    ),
    Verb(
        "index",
        "write the extents of many files as features",
        function="index.index",
        help="Write the extents of many files as polygons, with the path, CRS, cell size, bands and "
        "type of each file.",
        example="zembrel index ortho/ --out sheets.geojson",
        handlers={
            RASTERS: Handler("index.of_rasters"),
            POINTS: Handler("points.index.index"),
        },
        ignored_options=(
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
        "correct the metadata of a file, not its cells",
        function="label.label",
        help="Correct the metadata of a file; its cells stay unchanged, byte by byte. Without --out "
        "the file itself is changed, completely or not at all.",
        example="zembrel label scan.tif --crs EPSG:32626 --nodata 0",
        ignored_options=(*OTHER_KINDS, *MADE, "provenance", *RAW, *CRSS),
        synonyms=("assign", "edit", "tag"),
        needs_out=False,
    ),
    Verb(
        "formats",
        "list the formats that can be read and written",
        function="formats.formats",
        help="List the formats that can be read and written, and what each can store. NAME shows one "
        "format with its settings.",
        example="zembrel formats geotiff",
        arguments=("[NAME]",),
        synonyms=("drivers", "types"),
        callers=SHELL,
    ),
)
