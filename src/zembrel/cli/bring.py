"""Verbs that bring the pieces together."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from zembrel.cli.command import Command
from zembrel.verbs.options import Inputs, Output, Where

Method = Annotated[
    str,
    typer.Option(
        "--method",
        metavar="NAME",
        help="auto, nearest, bilinear, cubic, lanczos, mean, mode, min, max, median, sum, percentile:25. "
        "Half of its weight must be valid.",
        show_default=True,
    ),
]


def mosaic(
    inputs: Inputs,
    where: Where,
    output: Output,
    overlap: Annotated[
        str,
        typer.Option(
            "--overlap",
            metavar="RULE",
            help="Who wins: first, last, min, max, mean, sum, count, feather[:WIDTH], or divide by "
            "the nearest centre.",
        ),
    ] = "first",
    method: Method = "auto",
    match_tone: Annotated[
        bool, typer.Option("--match-tone", help="Gain and offset for each sheet, from all overlaps at once.")
    ] = False,
    trim_collar: Annotated[
        bool, typer.Option("--trim-collar", help="Drop near-black borders of photos.")
    ] = False,
    order: Annotated[
        str | None,
        typer.Option(
            "--order", metavar="FIELD@INDEX", help="Order by a field of a sheet index; -FIELD: descending."
        ),
    ] = None,
    table: Annotated[
        str | None,
        typer.Option("--table", metavar="CSV", help="How far every two sheets disagree, and are shifted."),
    ] = None,
) -> Any:
    """Many layers into one. Unlike CRSs and cell sizes are brought to one frame: the CRS of most cells,
    the finest cell size, the lattice of the first input that has both, unless you say otherwise."""
    from zembrel.verbs import mosaic as verb

    joining = verb.Joining(overlap, method, match_tone, trim_collar, order, table)
    return verb.mosaic(inputs, where, output, joining)


def stack(inputs: Inputs, where: Where, output: Output, method: Method = "auto") -> Any:
    """Several layers as bands of one, on one frame; bands of one-band files take the file's name."""
    from zembrel.verbs import stack as verb

    return verb.stack(inputs, where, output, method=method)


COMMANDS = {
    "mosaic": Command(mosaic, "zembrel mosaic ortho/ --trim-collar --out island.tif", ("keep_going",)),
    "stack": Command(stack, "zembrel stack red.tif green.tif blue.tif --out rgb.tif", ("keep_going",)),
}
