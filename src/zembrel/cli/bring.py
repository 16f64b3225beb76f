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
            help="Who wins: first, last, min, max, mean, median, sum, count, feather[:WIDTH], or divide by "
            "the nearest centre.",
        ),
    ] = "first",
    method: Method = "auto",
    match_tone: Annotated[
        bool, typer.Option("--match-tone", help="Gain and offset for each sheet, from all overlaps at once.")
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
    source_ids: Annotated[
        bool, typer.Option("--source-ids", help="Give points the number of their input as point source ID.")
    ] = False,
) -> Any:
    """Many layers into one. Unlike CRSs and cell sizes are brought to one frame: the CRS of most cells,
    the finest cell size, the lattice of the first input that has both, unless you say otherwise."""
    from zembrel.verbs import mosaic as verb

    joining = verb.Joining(overlap, method, match_tone, order, table, source_ids)
    return verb.mosaic(inputs, where, output, joining)


def stack(inputs: Inputs, where: Where, output: Output, method: Method = "auto") -> Any:
    """Several layers as bands of one, on one frame; bands of one-band files take the file's name."""
    from zembrel.verbs import stack as verb

    return verb.stack(inputs, where, output, method=method)


def pin(
    inputs: Inputs,
    where: Where,
    output: Output,
    ties: Annotated[
        str | None,
        typer.Option("--ties", metavar="CSV", help="Tie points: column,row,x,y[,name]; or the file's own."),
    ] = None,
    model: Annotated[
        str | None,
        typer.Option(
            "--model",
            metavar="NAME",
            help="affine, polynomial2, polynomial3 or spline; by the number of points.",
        ),
    ] = None,
    table: Annotated[
        str | None,
        typer.Option("--table", metavar="CSV", help="Residual and leave-one-out error of each point."),
    ] = None,
    method: Method = "auto",
) -> Any:
    """Place a scanned map by tie points. Columns and rows count from its upper left corner, x and y are in
    --crs. Residuals are shown, and a point that does not go with the others is named."""
    from zembrel.verbs import pin as verb

    return verb.pin(inputs, where, output, verb.Pins(ties, model, table, method))


COMMANDS = {
    "mosaic": Command(mosaic, "zembrel mosaic ortho/ --trim-collar --out island.tif"),
    "pin": Command(pin, "zembrel pin sketch.png --ties ties.csv --crs EPSG:32626 --out sketch.tif"),
    "stack": Command(stack, "zembrel stack red.tif green.tif blue.tif --out rgb.tif"),
}
