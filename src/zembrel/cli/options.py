"""How the shared options are spelt and explained. Their names, types and defaults are the core's."""

from __future__ import annotations

from typing import Any

import typer

# field of Inputs, Where or Output -> flags and help
OPTIONS: dict[str, tuple[tuple[str, ...], str]] = {
    "inputs_from": (("--inputs-from",), "A list of inputs, one a line; - for stdin."),
    "layer": (("--layer",), "One layer of a file that holds several."),
    "from_crs": (("--from-crs",), "CRS of inputs that do not say."),
    "force_crs": (("--force-crs",), "Let --from-crs overrule what files say."),
    "from_nodata": (("--from-nodata",), "Nodata value of inputs that do not say."),
    "bands": (("-b", "--bands"), 'Bands by number from 1, name or pattern: 4,3,2 or "B*".'),
    "onto": (("--onto",), "Land exactly on the cells of this frame file or raster."),
    "crs": (("-c", "--crs"), "CRS of the result: EPSG:32626 or a registry name."),
    "cell": (("-s", "--cell"), "Cell size with a unit: 2m, 1ft, 1arcsec; bare is CRS units; 2m/3m is x/y."),
    "within": (
        ("-w", "--within"),
        "Area to keep: W,S,E,N[@CRS], square:X,Y,REACH, circle:X,Y,REACH, place:NAME, "
        "degree:N46W024, or a file.",
    ),
    "within_where": (("--within-where",), "Which features of the area's file: \"kind = 'wood'\"."),
    "reach": (("--reach",), "How far around a place: 1.5mi."),
    "mask": (("--mask",), "Also blank what lies outside the area's outline."),
    "places": (("--places",), "Features with names, for place:NAME."),
    "out": (("-o", "--out"), "The result; a folder if it ends in / or is one."),
    "format": (("--format",), "Format of the result, if its name does not say."),
    "type": (("--type",), "Cell type of the result: uint8 ... float64."),
    "nodata": (("--nodata",), "Nodata value of the result; none for none."),
    "compress": (("--compress",), "Compression and level: deflate, zstd:15, lzw, none."),
    "settings": (("--set",), "KEY=VALUE of the format; zembrel formats NAME lists them."),
    "world_file": (("--world-file/--no-world-file",), "Write a world file and .prj beside the result."),
    "replace": (("--replace",), "Allow existing results to be replaced."),
    "dry_run": (("--dry-run",), "Show the plan and stop."),
    "ceiling": (("--ceiling",), "Refuse results larger than this.  [20GB]"),
    "memory": (("--memory",), "Budget for blocks.  [256MB]"),
    "workers": (("--workers",), "Threads; 0 is one for each processor."),
    "keep_going": (("--keep-going",), "With many inputs, finish the others; exit 7."),
}
MULTIPLE = ("settings",)
HELP_INPUTS = "Files, folders or quoted patterns."


def option(field: str) -> Any:
    """The Typer option of a shared field."""
    flags, text = OPTIONS[field]
    return typer.Option(*flags, help=text)


ALWAYS: dict[str, Any] = {
    "json": (bool, typer.Option("--json", help="The receipt, or the error, as JSON on stdout.")),
    "quiet": (bool, typer.Option("-q", "--quiet", help="No receipt.")),
    "verbose": (bool, typer.Option("--verbose", help="Every input in the receipt.")),
    "progress": (
        bool,
        typer.Option("--progress/--no-progress", help="Progress bar; only on a terminal if not said."),
    ),
}
