"""How the shared options are spelt and explained. Their names, types and defaults are the core's."""

from __future__ import annotations

from typing import Any

import typer

# field of Inputs, Where or Output -> flags, what the value is called (None: a switch), help
OPTIONS: dict[str, tuple[tuple[str, ...], str | None, str]] = {
    "inputs_from": (("--inputs-from",), "LIST", "A list of inputs, one a line; - for stdin."),
    "layer": (("--layer",), "NAME", "A layer of a file that holds several; or more: A,B or '*'."),
    "from_crs": (("--from-crs",), "CRS", "CRS of inputs that do not say; or a layer that is in it."),
    "force_crs": (("--force-crs",), None, "Let --from-crs overrule what files say."),
    "from_nodata": (("--from-nodata",), "VALUE", "Nodata value of inputs that do not say."),
    "from_layout": (
        ("--from-layout",),
        "LAYOUT",
        "Of raw inputs: columns=1025,rows=1025,type=uint16,order=little,first=north.",
    ),
    "offline": (("--offline",), None, "Ask nothing of the web."),
    "trust_inputs": (("--trust-inputs",), None, "No limits on what inputs unpack to and hold."),
    "bands": (("-b", "--bands"), "LIST", 'Bands by number from 1, name or pattern: 4,3,2 or "B*".'),
    "condition": (
        ("--where",),
        "CONDITION",
        'Which features: "depth > 3 and kind == \'path\'"; or points: "class == 2".',
    ),
    "fields": (
        ("--fields",),
        "LIST",
        "Which fields of features, or values of a text of points, in this order.",
    ),
    "classes": (("--classes",), "LIST", "Of points, only those of these classes: 2,9 or 3-5."),
    "returns": (
        ("--returns",),
        "LIST",
        "Of points, only first, last, single, intermediate, or numbers: 1,2.",
    ),
    "columns": (
        ("--columns",),
        "LIST",
        "Columns of a text of points, read or written: x,y,z,intensity; - leaves one out.",
    ),
    "resolution": (("--resolution",), "LENGTH", "Of a cloud-optimized file, only as fine as this: 2m."),
    "salvage": (("--salvage",), None, "Of a broken point file, take the points that are there."),
    "trim_collar": (("--trim-collar",), None, "Drop borders of one colour around photos."),
    "collar_tolerance": (
        ("--collar-tolerance",),
        "N",
        "How far values of a collar may differ from its colour; found by itself if not said.",
    ),
    "repair": (("--repair",), None, "Mend faulty geometries."),
    "skip_invalid": (("--skip-invalid",), None, "Leave faulty ones out."),
    "onto": (("--onto",), "FRAME", "Land exactly on the cells of this frame file or raster."),
    "crs": (
        ("-c", "--crs"),
        "CRS",
        "CRS of the result: EPSG:32626, a registry name, a .prj or .wkt file, WKT.",
    ),
    "cell": (
        ("-s", "--cell"),
        "LENGTH",
        "Cell size with a unit: 2m, 1ft, 1arcsec; bare is CRS units; 2m/3m is x/y.",
    ),
    "longest": (("--longest",), "N", "So many cells along the longer side, instead of a cell size."),
    "within": (
        ("-w", "--within"),
        "AREA",
        "Area to keep: W,S,E,N[@CRS], square:X,Y,REACH, circle:X,Y,REACH, place:NAME, "
        "degree:N46W024, or a file.",
    ),
    "within_where": (
        ("--within-where",),
        "CONDITION",
        "Which features of the area's file: \"kind == 'wood'\".",
    ),
    "reach": (("--reach",), "LENGTH", "How far around a place: 1.5mi."),
    "mask": (("--mask",), None, "Also blank what lies outside the area's outline."),
    "places": (("--places",), "FILE", "Features with names, for place:NAME."),
    "strict_crs": (
        ("--strict-crs",),
        None,
        "Refuse where no shift between datums or heights is known.",
    ),
    "shift_grid": (("--shift-grid",), "FILE", "Shift from one datum to another by this NTv2 file (.gsb)."),
    "height_grid": (
        ("--height-grid",),
        "FILE",
        "Geoid heights, any grid: between heights above the ellipsoid and others.",
    ),
    "epoch": (("--epoch",), "YEAR", "Epoch of the coordinates, for shifts that change with time: 2020.5."),
    "z_unit": (("--z-unit",), "UNIT", "Heights of the result in this unit: m, ft, usft."),
    "from_z_unit": (("--from-z-unit",), "UNIT", "Unit of heights where neither bands nor CRS say."),
    "average_codes": (("--average-codes",), None, "Let a method average what look like codes of classes."),
    "out": (("-o", "--out"), "PATH", "The result; a folder if it ends in / or is one."),
    "format": (("--format",), "NAME", "Format of the result, if its name does not say."),
    "type": (("--type",), "TYPE", "Cell type of the result: uint8 ... float64."),
    "rounded": (("--round",), None, "With --type: allow fractions to be rounded."),
    "clamp": (("--clamp",), None, "With --type: hold values at its ends, and round."),
    "nodata": (("--nodata",), "VALUE", "Nodata value of the result; none for none."),
    "stored": (("--stored",), None, "Write stored numbers as they are, without their scale and offset."),
    "flatten": (
        ("--flatten",),
        "COLOUR",
        "Blend transparent cells onto this colour: white, '#rrggbb'.",
    ),
    "compress": (("--compress",), "NAME[:LEVEL]", "Compression and level: deflate, zstd:15, lzw, none."),
    "settings": (("--set",), "KEY=VALUE", "A setting of the format; zembrel formats NAME lists them."),
    "world_file": (("--world-file/--no-world-file",), None, "Write a world file and .prj beside the result."),
    "replace": (("--replace",), None, "Allow existing results to be replaced."),
    "into": (
        ("--into",),
        "NAME",
        "Of features: a layer of this name in the GeoPackage --out, beside those that are there.",
    ),
    "provenance": (
        ("--provenance",),
        None,
        "Also write how it came about beside the result, as NAME.provenance.json.",
    ),
    "dry_run": (("--dry-run",), None, "Show the plan and stop."),
    "ceiling": (("--ceiling",), "BYTES", "Refuse results larger than this.  [20GB]"),
    "memory": (("--memory",), "BYTES", "Budget for blocks.  [256MB]"),
    "workers": (("--workers",), "N", "Threads; one for each processor if not said."),
    "cluster": (
        ("--cluster",),
        "ADDRESS",
        "Work on a Dask cluster at tcp://HOST:PORT, or local:N processes.",
    ),
    "keep_empty": (("--keep-empty",), None, "Also write results that have no valid cell or feature; exit 7."),
    "keep_going": (("--keep-going",), None, "With many inputs, finish the others; exit 7."),
}
# what help shows together: the options of a group, in the order in which they are shown
HELD = {
    "Inputs": (
        "inputs_from", "layer", "bands", "from_crs", "force_crs", "from_nodata", "from_layout", "trim_collar",
        "collar_tolerance", "offline", "trust_inputs",
    ),
    "Features and points": (
        "condition", "fields", "repair", "skip_invalid", "classes", "returns", "columns", "resolution",
        "salvage",
    ),
    "Frame and area": (
        "onto", "crs", "cell", "longest", "within", "within_where", "reach", "places", "mask",
    ),
    "Between two CRSs": (
        "strict_crs", "shift_grid", "height_grid", "epoch", "z_unit", "from_z_unit", "average_codes",
    ),
    "Result": (
        "out", "format", "type", "rounded", "clamp", "nodata", "stored", "flatten", "compress", "settings",
        "world_file", "provenance", "into",
        "replace", "keep_empty",
    ),
    "Run": (
        "dry_run", "ceiling", "memory", "workers", "cluster", "keep_going", "json", "quiet", "verbose",
        "explain", "progress", "help",
    ),
}  # fmt: skip


def option(field: str) -> Any:
    """The Typer option of a shared field."""
    flags, value, text = OPTIONS[field]
    return typer.Option(*flags, metavar=value, help=text, show_default=False)


ALWAYS: dict[str, Any] = {
    "json": (bool, typer.Option("--json", help="The receipt, or the error, as JSON on stdout.")),
    "quiet": (bool, typer.Option("-q", "--quiet", help="No receipt.")),
    "verbose": (bool, typer.Option("--verbose", help="Every input in the receipt.")),
    "explain": (
        bool,
        typer.Option("--explain", help="Only tell which defaults hold for these inputs, and why."),
    ),
    "progress": (
        bool,
        typer.Option("--progress/--no-progress", help="Progress bar; only on a terminal if not said."),
    ),
}
