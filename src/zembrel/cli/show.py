"""Verbs that show."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from zembrel.cli.command import Command
from zembrel.verbs.options import Inputs, Output, Where

Ramp = Annotated[
    str | None,
    typer.Option("--ramp", metavar="NAME", help="Colours of values: relief, viridis, Greys ..."),
]
ClassColours = Annotated[
    str | None, typer.Option("--legend", metavar="FILE", help="Classes and colours of codes.")
]
RampEnds = Annotated[
    str | None,
    typer.Option("--limits", metavar="LO,HI", help="Ends of the ramp: 0,900 or 2%,98%; all if not said."),
]
LIGHT = "315,45"
Light = Annotated[str, typer.Option("--sun", metavar="AZ,ALT", help="Where light comes from, in degrees.")]
Shaded = Annotated[bool, typer.Option("--shade", help="Shade by the slope towards the north-west.")]


def draw(
    inputs: Inputs,
    where: Where,
    output: Output,
    ramp: Ramp = None,
    legend: ClassColours = None,
    limits: Annotated[
        str | None, typer.Option("--limits", metavar="LO,HI", help="Values at the ends of the ramp.")
    ] = None,
    shade: Shaded = False,
    title: Annotated[
        str | None, typer.Option("--title", metavar="TEXT", help="Instead of the file's name.")
    ] = None,
    field: Annotated[
        str | None, typer.Option("--field", metavar="FIELD", help="Colour features by this field.")
    ] = None,
    classes: Annotated[
        str,
        typer.Option(
            "--classes",
            metavar="WAY[:N]",
            help="Of a field of numbers: equal, quantile or natural, 5 if not said. Of points: which, 2,9.",
        ),
    ] = "quantile",
    by: Annotated[
        str,
        typer.Option(
            "--by", metavar="VALUE", help="Of points: height, class, intensity, return, source, time."
        ),
    ] = "height",
    section: Annotated[
        str | None,
        typer.Option("--section", metavar="X1,Y1,X2,Y2", help="Of points: upright, along this line."),
    ] = None,
    width: Annotated[
        str | None, typer.Option("--width", metavar="LENGTH", help="Of a section: how wide it is.")
    ] = None,
    size: Annotated[str, typer.Option("--size", metavar="WxH", help="Picture in pixels.")] = "1280x800",
    units: Annotated[
        str | None,
        typer.Option("--units", metavar="UNIT", help="A second scale bar in mi, ft, yd or nmi."),
    ] = None,
    grid: Annotated[
        str | None,
        typer.Option("--grid", metavar="STEP", help="Lines every 1km, or meridians every 1arcmin; or auto."),
    ] = None,
    contours: Annotated[
        float | None,
        typer.Option("--contours", metavar="VALUE", help="Lines of equal value at this interval."),
    ] = None,
    halves: Annotated[
        bool, typer.Option("--halves", help="The left half of one raster, the right of another.")
    ] = False,
    inset: Annotated[
        list[str] | None, typer.Option("--inset", metavar="AREA", help="A part shown larger; up to four.")
    ] = None,
    detail: Annotated[
        list[str] | None,
        typer.Option("--detail", metavar="X,Y[@CRS]", help="An inset at 100 %, a pixel for each cell."),
    ] = None,
    attribution: Annotated[
        str | None, typer.Option("--attribution", metavar="TEXT", help="Where the data come from.")
    ] = None,
    terminal: Annotated[
        bool, typer.Option("--terminal", help="Show it in the terminal, as wide as that is.")
    ] = False,
) -> Any:
    """A picture of rasters side by side, of features, or of features over a raster: with ramp or legend, a
    scale bar, north, and the CRS and extent along its edges."""
    from zembrel.verbs import draw as verb
    from zembrel.verbs.drawing import Drawing
    from zembrel.verbs.mapextras import MapExtras

    extras = MapExtras(grid, contours, tuple(inset or ()), tuple(detail or ()), attribution, halves, terminal)
    drawing = Drawing(
        ramp, legend, limits, shade, title, field, classes, by, section, width, size, units, extras
    )
    return verb.draw(inputs, where, output, drawing)


def paint(
    inputs: Inputs,
    output: Output,
    ramp: Ramp = None,
    legend: ClassColours = None,
    limits: RampEnds = None,
    shade: Annotated[bool, typer.Option("--shade", help="Shade by the slope towards the sun.")] = False,
    sun: Light = LIGHT,
) -> Any:
    """Cells to georeferenced colours, by a ramp or their legend, shaded if asked."""
    from zembrel.verbs import paint as verb

    return verb.paint(inputs, output, verb.Brush(ramp, legend, limits, shade, sun))


COMMANDS = {
    "draw": Command(draw, "zembrel draw dem/relief.tif --shade --out relief.png"),
    "paint": Command(paint, "zembrel paint relief.tif --shade --out relief-colours.tif"),
}
