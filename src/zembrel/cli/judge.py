"""Verbs that check."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from zembrel.cli.command import Command
from zembrel.verbs.options import Inputs, Output


def compare(
    inputs: Inputs,
    output: Output,
    tolerance: Annotated[
        list[float] | None,
        typer.Option("--tolerance", metavar="VALUE", help="How far apart counts as within it; repeatable."),
    ] = None,
    at_most: Annotated[
        list[str] | None,
        typer.Option("--at-most", metavar="FIGURE=VALUE", help="max=12, rms=2, shift=0.1; repeatable."),
    ] = None,
    at_least: Annotated[
        list[str] | None,
        typer.Option("--at-least", metavar="FIGURE=VALUE", help="share=0.99, cells=1000; repeatable."),
    ] = None,
    method: Annotated[
        str, typer.Option("--method", metavar="NAME", help="How the second comes onto the first.")
    ] = "auto",
    difference: Annotated[
        str | None,
        typer.Option(
            "--difference",
            metavar="PATH",
            help="The first less the second as a raster; of classes what became what.",
        ),
    ] = None,
    table: Annotated[
        str | None,
        typer.Option("--table", metavar="CSV", help="Cells, hectares and per cent of changes of classes."),
    ] = None,
    figure: Annotated[
        str | None,
        typer.Option("--figure", metavar="PICTURE", help="Both, their difference and its histogram."),
    ] = None,
    page: Annotated[
        str | None, typer.Option("--page", metavar="HTML", help="Both on a page, to swipe and flicker.")
    ] = None,
) -> Any:
    """How far two rasters differ: bias, rms, percentiles and the worst place, the share within tolerances,
    how classes are confused, and an estimated shift. Exit code 1 if a limit does not hold."""
    from zembrel.verbs import compare as verb

    limits = tuple(at_most or ()), tuple(at_least or ())
    comparing = verb.Comparing(tuple(tolerance or ()), *limits, method, difference, table, figure, page)
    return verb.compare(inputs, output, comparing)


def profile(
    inputs: Inputs,
    output: Output,
    along: Annotated[
        str | None,
        typer.Option("--along", metavar="LINE", help="X,Y,X,Y[@CRS], a file of lines, or corners."),
    ] = None,
    along_where: Annotated[
        str | None, typer.Option("--along-where", metavar="CONDITION", help="Which features of that file.")
    ] = None,
    step: Annotated[
        str | None,
        typer.Option("--step", metavar="LENGTH", help="Between samples; the finest cell if not said."),
    ] = None,
    method: Annotated[
        str, typer.Option("--method", metavar="NAME", help="auto: bilinear, of classes nearest; or cubic.")
    ] = "auto",
    table: Annotated[
        str | None, typer.Option("--table", metavar="CSV", help="The values; on stdout if nothing is named.")
    ] = None,
    figure: Annotated[
        str | None,
        typer.Option("--figure", metavar="PICTURE", help="The values, and below them differences."),
    ] = None,
    title: Annotated[str | None, typer.Option("--title", metavar="TEXT", help="Of the figure.")] = None,
) -> Any:
    """Values along a line for one or more layers, of any CRSs; distances are metres on the ellipsoid."""
    from zembrel.verbs import profile as verb

    return verb.profile(
        inputs, output, verb.Following(along, along_where, step, method, table, figure, title)
    )


def check(
    inputs: Inputs,
    output: Output,
    rules: Annotated[
        str | None, typer.Option("--rules", metavar="LIST", help="Only these: tiff, geotiff, cog, cells.")
    ] = None,
    faults_only: Annotated[bool, typer.Option("--faults-only", help="Leave out what is obeyed.")] = False,
    against: Annotated[
        str | None,
        typer.Option("--against", metavar="SOURCE", help="What it was made of: is text still legible?"),
    ] = None,
) -> Any:
    """Does a file obey the rules of its format? TIFF, GeoTIFF and the cloud-optimized layout, item by item;
    of any raster what its cells tell: seams, collars, leaked nodata, misplacement; of features every faulty
    geometry, which --out makes a layer of. Exit code 1 if not."""
    from zembrel.verbs import check as verb

    return verb.check(inputs, output, rules=rules, faults_only=faults_only, against=against)


COMMANDS = {
    "compare": Command(compare, "zembrel compare landcover.tif again.tif --at-least share=1"),
    "profile": Command(
        profile, "zembrel profile relief.tif degrees.tif --along corners --figure profile.png"
    ),
    "check": Command(check, "zembrel check island.tif"),
}
