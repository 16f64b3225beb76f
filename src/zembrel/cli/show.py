"""Verbs that show."""

from __future__ import annotations

import dataclasses
from pathlib import Path
from typing import Annotated, Any

import typer

from zembrel.cli.command import Command
from zembrel.cli.options import BETWEEN
from zembrel.errors import UsageError, nearest_name
from zembrel.verbs.options import Inputs, Output, Where

_NOT_HERE = (
    "onto", "cell", "mask", "format", "type", "nodata", "compress", "settings", "world_file",
    *BETWEEN, "dry_run", "ceiling", "keep_going",
)  # fmt: skip


def draw(
    inputs: Inputs,
    where: Where,
    output: Output,
    ramp: Annotated[
        str | None,
        typer.Option("--ramp", metavar="NAME", help="Colours of values: relief, viridis, Greys ..."),
    ] = None,
    legend: Annotated[
        str | None, typer.Option("--legend", metavar="FILE", help="Classes and colours of codes.")
    ] = None,
    limits: Annotated[
        str | None, typer.Option("--limits", metavar="LO,HI", help="Values at the ends of the ramp.")
    ] = None,
    shade: Annotated[
        bool, typer.Option("--shade", help="Shade by the slope towards the north-west.")
    ] = False,
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
) -> Any:
    """A picture of a raster, of features, or of features over a raster: with ramp or legend, a scale bar, and
    the CRS and extent along its edges."""
    from zembrel.draw.colouring import Look
    from zembrel.draw.picture import UNITS
    from zembrel.draw.shapes import ShapeLook
    from zembrel.formats.legendfile import read_legend
    from zembrel.verbs import draw as verb
    from zembrel.verbs.points.draw import PointLook

    across, high = _pair(size, "x", "--size 1280x800", int)
    ends = _pair(limits, ",", "--limits 0,900", float) if limits else None
    entries = read_legend(Path(legend)) if legend else None
    if classes[:1].isdigit():  # of points
        inputs, classes = dataclasses.replace(inputs, classes=classes), "quantile"
    way, _, count = classes.partition(":")
    if count and not (count.isdigit() and 1 <= int(count) <= 20):
        raise UsageError(
            f"--classes {classes}", "1 to 20 classes can be told apart", "write --classes natural:5"
        )
    shapes = ShapeLook(field, way, int(count or 5), ramp, entries)
    if units is not None and units not in UNITS:
        raise UsageError(
            f"--units {units}", "it is the unit of a second scale bar", nearest_name(units, UNITS)
        )
    look = Look(ramp, entries, ends, shade, title, width=across, height=high, units=units)
    points = PointLook(by, section, width)
    return verb.draw(inputs, where, output, look=look, shapes=shapes, points=points)


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


def paint(
    inputs: Inputs,
    output: Output,
    ramp: Annotated[
        str | None, typer.Option("--ramp", metavar="NAME", help="Colours of values: relief, viridis ...")
    ] = None,
    legend: Annotated[
        str | None, typer.Option("--legend", metavar="FILE", help="Classes and colours of codes.")
    ] = None,
    limits: Annotated[
        str | None,
        typer.Option("--limits", metavar="LO,HI", help="Ends of the ramp: 0,900 or 2%,98%; all if not said."),
    ] = None,
    shade: Annotated[bool, typer.Option("--shade", help="Shade by the slope towards the sun.")] = False,
    sun: Annotated[
        str, typer.Option("--sun", metavar="AZ,ALT", help="Where light comes from, in degrees.")
    ] = "315,45",
) -> Any:
    """Cells to georeferenced colours, by a ramp or their legend, shaded if asked."""
    from zembrel.formats.legendfile import read_legend
    from zembrel.geodesy.sun import Sun
    from zembrel.verbs import paint as verb

    azimuth, altitude = _pair(sun, ",", "--sun 315,45", float)
    if not 0 < altitude <= 90:
        raise UsageError(
            f"a sun {altitude:g} degrees high", "it stands above the horizon", "write --sun 315,45"
        )
    classes = read_legend(Path(legend)) if legend else None
    return verb.paint(inputs, output, verb.Brush(ramp, classes, limits, shade, Sun(azimuth, altitude)))


def check(
    inputs: Inputs,
    output: Output,
    rules: Annotated[
        str | None, typer.Option("--rules", metavar="LIST", help="Only these: tiff, geotiff, cog.")
    ] = None,
    faults_only: Annotated[bool, typer.Option("--faults-only", help="Leave out what is obeyed.")] = False,
) -> Any:
    """Does a file obey the rules of its format? TIFF, GeoTIFF and the cloud-optimized layout, item by item;
    of features every faulty geometry, which --out makes a layer of. Exit code 1 if not."""
    from zembrel.verbs import check as verb

    return verb.check(inputs, output, rules=rules, faults_only=faults_only)


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
        typer.Option("--difference", metavar="PATH", help="The first less the second, as a raster."),
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
    comparing = verb.Comparing(tuple(tolerance or ()), *limits, method, difference, figure, page)
    return verb.compare(inputs, output, comparing)


def _pair(text: str, sign: str, example: str, kind: Any) -> Any:
    try:
        one, other = (kind(part) for part in text.split(sign))
    except ValueError as exc:
        raise UsageError(f"{text!r} is not a pair of numbers", "two are needed", f"write {example}") from exc
    if kind is int and not (200 <= one <= 20_000 and 200 <= other <= 20_000):
        raise UsageError(
            f"a picture of {text} pixels", "200 to 20,000 on each side are drawn", f"write {example}"
        )
    return one, other


_NOT_WRITTEN = (
    "format", "type", "nodata", "flatten", "stored", "compress", "settings", "world_file", "dry_run",
    "ceiling", "memory", "workers", "keep_going", "keep_empty",
)  # fmt: skip
_READ_ALONE = ("layer", "from_crs", "force_crs", "from_nodata", "from_layout", "bands")
COMMANDS = {
    "profile": Command(
        profile,
        "zembrel profile relief.tif degrees.tif --along corners --figure profile.png",
        (
            "out",
            "format",
            "type",
            "nodata",
            "compress",
            "settings",
            "world_file",
            "dry_run",
            "ceiling",
            "keep_going",
        ),
    ),
    "compare": Command(
        compare,
        "zembrel compare landcover.tif again.tif --at-least share=1",
        (
            "out",
            "format",
            "type",
            "nodata",
            "compress",
            "settings",
            "world_file",
            "dry_run",
            "ceiling",
            "keep_going",
        ),
    ),
    "check": Command(check, "zembrel check island.tif", (*_READ_ALONE, *_NOT_WRITTEN), layered=True),
    "draw": Command(
        draw,
        "zembrel draw dem/relief.tif --shade --out relief.png",
        ("longest", *_NOT_HERE, "classes"),
        features=True,
        points=True,
    ),
    "paint": Command(paint, "zembrel paint relief.tif --shade --out relief-colours.tif", ("bands", "type")),
}
