"""Verbs for points alone."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from zembrel.cli.command import Command
from zembrel.verbs.options import Inputs, Output, Where


def thin(
    inputs: Inputs,
    output: Output,
    every: Annotated[int | None, typer.Option("--every", metavar="N", help="Every Nth point.")] = None,
    share: Annotated[
        float | None, typer.Option("--share", metavar="SHARE", help="So many by chance: 0.1 for a tenth.")
    ] = None,
    seed: Annotated[int, typer.Option("--seed", metavar="N", help="Another chance.")] = 0,
    cell: Annotated[
        str | None,
        typer.Option("-s", "--cell", metavar="LENGTH", help="One point of each cell of this size."),
    ] = None,
    best: Annotated[
        str,
        typer.Option("--best", metavar="NAME", help="Which: central, lowest, highest, first or brightest."),
    ] = "central",
    spacing: Annotated[
        str | None,
        typer.Option("--spacing", metavar="LENGTH", help="No two points closer in space than this."),
    ] = None,
) -> Any:
    """Fewer points, in the order they had: every Nth, a share by chance, the best of each cell, or points
    that
    keep a distance."""
    from zembrel.verbs.points import thin as verb

    return verb.thin(inputs, output, verb.Thinning(every, share, seed, cell, best, spacing))


def ground(
    inputs: Inputs,
    output: Output,
    cell: Annotated[
        float, typer.Option("-s", "--cell", metavar="METRES", help="Cells that are looked at.")
    ] = 1.0,
    window: Annotated[
        float, typer.Option("--window", metavar="METRES", help="The widest thing that is no ground.")
    ] = 40.0,
    slope: Annotated[
        float, typer.Option("--slope", metavar="RISE", help="How steep the ground may be: metres a metre.")
    ] = 0.6,
    step: Annotated[
        float, typer.Option("--step", metavar="METRES", help="The least height of what is no ground.")
    ] = 0.25,
    near: Annotated[
        float,
        typer.Option("--near", metavar="METRES", help="How far from the ground found its points may lie."),
    ] = 0.25,
    pit: Annotated[
        float, typer.Option("--pit", metavar="METRES", help="So far below all around it a point is a fault.")
    ] = 1.5,
) -> Any:
    """Find the ground points of a cloud and set their class to 2.

    Objects that rise on all sides, such as roofs and bushes, are removed. Other points of class 2 become
    class 1. Noise and water keep their class."""
    from zembrel.points.morphology import Filtering
    from zembrel.verbs.points import ground as verb

    return verb.ground(inputs, output, Filtering(cell, window, slope, step, near, pit))


def grid(
    inputs: Inputs,
    where: Where,
    output: Output,
    stat: Annotated[
        list[str] | None,
        typer.Option(
            "--stat",
            metavar="NAME[:VALUE]",
            help="min, max, mean, sum, median, percentile:90, count or density of the points in a cell; "
            "mean:intensity; again for another band.  [mean]",
        ),
    ] = None,
    surface: Annotated[
        str | None,
        typer.Option(
            "--surface", metavar="NAME", help="Between points: tin for triangles, idw for weighted means."
        ),
    ] = None,
    products: Annotated[
        str | None,
        typer.Option("--products", metavar="LIST", help="Bands of terrain,surface,canopy, in one pass."),
    ] = None,
    fill: Annotated[
        str | None,
        typer.Option(
            "--fill", metavar="CELLS|LENGTH", help="Close voids of up to this radius; others stay void."
        ),
    ] = None,
    spikes: Annotated[
        str | None,
        typer.Option(
            "--spikes", metavar="METRES", help="Leave out points so far above or below those around."
        ),
    ] = None,
) -> Any:
    """Points to the cells of a frame. A void is bridged where no circle of more than --fill radius fits
    between
    points, so that nothing is made up beyond it."""
    from zembrel.verbs.points import grid as verb

    return verb.grid(inputs, where, output, verb.Gridding(tuple(stat or ()), surface, products, fill, spikes))


COMMANDS = {
    "thin": Command(thin, "zembrel thin lidar/l2.laz --cell 2m --best lowest --out thin.laz"),
    "ground": Command(ground, "zembrel ground raw.las --out ground.laz"),
    "grid": Command(grid, "zembrel grid lidar/ --classes 2 --surface tin --cell 1m --out terrain.tif"),
}
