"""Verbs between cells and shapes."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from zembrel.cli.command import Command
from zembrel.verbs.options import Inputs, Output, Where


def rasterize(
    inputs: Inputs,
    where: Where,
    output: Output,
    value: Annotated[
        float | None, typer.Option("--value", metavar="VALUE", help="What every feature gives its cells; 1.")
    ] = None,
    field: Annotated[
        str | None,
        typer.Option("--field", metavar="FIELD", help="The field that does; words become classes."),
    ] = None,
    count: Annotated[bool, typer.Option("--count", help="How many features fall on each cell.")] = False,
    cover: Annotated[bool, typer.Option("--cover", help="The share of each cell that is covered.")] = False,
    touching: Annotated[bool, typer.Option("--touching", help="All cells that a feature meets.")] = False,
    width: Annotated[
        str | None, typer.Option("--width", metavar="LENGTH", help="Lines and points so wide: 3m.")
    ] = None,
    rank: Annotated[
        str | None, typer.Option("--rank", metavar="FIELD", help="Features with more of it lie on top.")
    ] = None,
    overlap: Annotated[
        str, typer.Option("--overlap", metavar="RULE", help="first, last, min, max, mean, sum or count.")
    ] = "last",
    fill: Annotated[
        float | None,
        typer.Option("--fill", metavar="VALUE", help="Where no feature is; else nothing is there."),
    ] = None,
) -> Any:
    """Features onto the cells of a frame. A cell belongs to the polygon its middle lies in, so that areas
    that share an edge leave no gap and no overlap."""
    from zembrel.verbs import rasterize as verb

    scanning = verb.Scanning(value, field, count, cover, touching, width, rank, overlap, fill)
    return verb.rasterize(inputs, where, output, scanning)


def polygonize(
    inputs: Inputs,
    output: Output,
    diagonal: Annotated[
        bool, typer.Option("--diagonal", help="Join cells that meet at a corner alone.")
    ] = False,
    dissolve: Annotated[
        bool, typer.Option("--dissolve", help="One feature for each value, not for each region.")
    ] = False,
    rounded: Annotated[bool, typer.Option("--round", help="Allow fractions to be rounded.")] = False,
    min_cells: Annotated[
        int, typer.Option("--min-cells", metavar="N", help="Give smaller regions to their largest neighbour.")
    ] = 0,
    smooth: Annotated[
        bool, typer.Option("--smooth", help="Cut corners, by up to half a cell; borders stay shared.")
    ] = False,
    simplify: Annotated[
        str | None,
        typer.Option("--simplify", metavar="LENGTH", help="Let outlines move so far; borders stay shared."),
    ] = None,
) -> Any:
    """Regions of equal cells as polygons along the edges of cells, with value, cells and true ground area.
    Invalid cells are left out."""
    from zembrel.verbs import polygonize as verb

    outlining = verb.Outlining(diagonal, dissolve, rounded, min_cells, smooth, simplify)
    return verb.polygonize(inputs, output, outlining)


def contour(
    inputs: Inputs,
    output: Output,
    interval: Annotated[
        float | None,
        typer.Option("--interval", metavar="VALUE", help="How far apart, in units of the values."),
    ] = None,
    base: Annotated[
        float, typer.Option("--base", metavar="VALUE", help="A value that intervals count from.")
    ] = 0.0,
    levels: Annotated[
        str | None, typer.Option("--levels", metavar="LIST", help="At these values: 5,10,50.")
    ] = None,
    classes: Annotated[
        int | None, typer.Option("--classes", metavar="N", help="Between N classes of equally many cells.")
    ] = None,
    filled: Annotated[bool, typer.Option("--filled", help="The areas between the levels.")] = False,
    beyond: Annotated[
        bool, typer.Option("--beyond", help="With --filled: also below the first level and above the last.")
    ] = False,
    index: Annotated[
        int, typer.Option("--index", metavar="N", help="Flag every Nth interval from the base; 0 for none.")
    ] = 5,
    smooth: Annotated[bool, typer.Option("--smooth", help="Soften the surface first.")] = False,
) -> Any:
    """Lines of equal value, or the areas between them. Values stand in the middle of cells; about ten levels
    if nobody says."""
    from zembrel.verbs import contour as verb
    from zembrel.verbs.contourlevels import Contouring

    contouring = Contouring(interval, base, levels, classes, filled, beyond, index, smooth)
    return verb.contour(inputs, output, contouring)


def trace(
    inputs: Inputs,
    output: Output,
    background: Annotated[
        float | None, typer.Option("--background", metavar="VALUE", help="What is no line, besides nodata.")
    ] = None,
    spurs: Annotated[
        int, typer.Option("--spurs", metavar="N", help="Take away branches of fewer cells.")
    ] = 0,
) -> Any:
    """Rasters of lines as polylines: thinned to one cell, and followed from end or junction to the next.
    Each line has its value, cells and true length."""
    from zembrel.verbs import trace as verb

    return verb.trace(inputs, output, background=background, spurs=spurs)


def centroids(inputs: Inputs, output: Output) -> Any:
    """A point in the middle of each valid cell, with a field for each band."""
    from zembrel.verbs import centroids as verb

    return verb.centroids(inputs, output)


def sample(
    inputs: Inputs,
    output: Output,
    at: Annotated[str | None, typer.Option("--at", metavar="POINTS", help="A file of points.")] = None,
    method: Annotated[
        str,
        typer.Option(
            "--method",
            metavar="NAME",
            help="auto, nearest, bilinear, cubic, lanczos, mean, mode, min, max, median, sum, percentile:25.",
        ),
    ] = "auto",
    reach: Annotated[
        str | None,
        typer.Option("--reach", metavar="LENGTH", help="How far around a point a statistic looks."),
    ] = None,
) -> Any:
    """Values of rasters at points: a field for each band, and the names of classes."""
    from zembrel.verbs import sample as verb

    return verb.sample(inputs, output, at=at, method=method, reach=reach)


def tally(
    inputs: Inputs,
    where: Where,
    output: Output,
    zones: Annotated[
        str | None,
        typer.Option(
            "--zones", metavar="FEATURES", help="Areas to sum up in; lines and points with --reach."
        ),
    ] = None,
    stat: Annotated[
        list[str] | None,
        typer.Option(
            "--stat",
            metavar="NAME[:FIELD]",
            help="count, sum, mean, min, max, deviation, median, quartiles, percentile:90, majority, "
            "histogram; of features also length and share. Repeatable.",
        ),
    ] = None,
    reach: Annotated[
        str | None,
        typer.Option("--reach", metavar="LENGTH", help="How far around zones, or middles of cells."),
    ] = None,
) -> Any:
    """Features or cells counted and summed up per zone, or features per cell of a frame (--onto, or --cell).
    Cells on the edge of a zone count by the share that is inside."""
    from zembrel.verbs import tally as verb

    return verb.tally(inputs, where, output, verb.Tallying(zones, tuple(stat or ()), reach))


COMMANDS = {
    "tally": Command(
        tally,
        "zembrel tally relief.tif --zones parcels.gpkg --stat mean --stat max --out parcels-height.gpkg",
    ),
    "centroids": Command(centroids, "zembrel centroids landcover.tif --out cells.parquet"),
    "sample": Command(sample, "zembrel sample relief.tif landcover.tif --at places.geojson --out places.csv"),
    "trace": Command(trace, "zembrel trace paths.tif --background 0 --spurs 5 --out paths.gpkg"),
    "contour": Command(contour, "zembrel contour relief.tif --interval 20 --out lines.gpkg"),
    "polygonize": Command(polygonize, "zembrel polygonize landcover.tif --out landcover.gpkg"),
    "rasterize": Command(
        rasterize, "zembrel rasterize coast.geojson --onto landcover.tif --value 1 --out land.tif"
    ),
}
