"""Which options help shows together, and those that every verb has."""

from __future__ import annotations

from typing import Any

import typer

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


ALWAYS: dict[str, Any] = {
    "json": (bool, typer.Option("--json", help="The receipt, or the error, as JSON on stdout.")),
    "quiet": (bool, typer.Option("-q", "--quiet", help="No receipt.")),
    "verbose": (bool, typer.Option("--verbose", help="Every input in the receipt.")),
    "explain": (
        bool,
        typer.Option("--explain", help="Only tell which defaults hold for these inputs, and why."),
    ),
    "progress": (
        bool | None,
        typer.Option("--progress/--no-progress", help="Progress bar; only on a terminal if not said."),
    ),
}
