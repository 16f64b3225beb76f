"""Verbs that look at what came in."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from zembrel.cli.command import Command
from zembrel.verbs.options import Inputs, Output


def describe(
    inputs: Inputs,
    output: Output,
    stats: Annotated[
        bool, typer.Option("--stats", help="Exact minimum, maximum, mean and deviation.")
    ] = False,
    at: Annotated[
        str | None, typer.Option("--at", metavar="X,Y[@CRS]", help="Values at X,Y or X,Y@EPSG:4326.")
    ] = None,
    page: Annotated[
        str | None,
        typer.Option(
            "--page", metavar="PATH", help="A page (.html, .pdf, .png); of several a contact sheet."
        ),
    ] = None,
    history: Annotated[
        bool, typer.Option("--history", help="How files and packs came about, as they tell it themselves.")
    ] = False,
) -> Any:
    """What a layer is: CRS, extent, cell size, bands, type, nodata. Several inputs stand side by side,
    and a * marks the rows in which they differ."""
    from zembrel.verbs import describe as verb

    return verb.describe(inputs, output, verb.Looking(stats, at, page, history))


def index(inputs: Inputs, output: Output) -> Any:
    """Extents of many files as polygons, with path, CRS, cell size, bands and type of each."""
    from zembrel.verbs import index as verb

    return verb.index(inputs, output)


def label(
    inputs: Inputs,
    output: Output,
    crs: Annotated[str | None, typer.Option("-c", "--crs", metavar="CRS", help="CRS the file is in.")] = None,
    nodata: Annotated[
        str | None, typer.Option("--nodata", metavar="VALUE", help="Value that means nothing; none for none.")
    ] = None,
    names: Annotated[
        str | None, typer.Option("--names", metavar="LIST", help="Band names: red,green,blue.")
    ] = None,
    legend: Annotated[
        str | None, typer.Option("--legend", metavar="FILE", help="Legend file with classes and colours.")
    ] = None,
    shift: Annotated[
        str | None, typer.Option("--shift", metavar="X,Y", help="Move by X,Y in CRS units.")
    ] = None,
    overviews: Annotated[bool, typer.Option("--overviews", help="Add or renew the overviews.")] = False,
) -> Any:
    """Mend what a file says of itself; its cells stay as they are, byte by byte. Without --out the file
    itself is mended, whole or not at all."""
    from zembrel.verbs import label as verb

    changes = verb.Changes(crs, nodata, names, legend, shift, overviews)
    return verb.label(inputs, output, changes)


def formats(
    name: Annotated[
        str | None, typer.Argument(help="One format, with its options.", metavar="[NAME]")
    ] = None,
) -> Any:
    """What can be read and written, and what each format can hold."""
    from zembrel.verbs import formats as verb

    return verb.formats(name)


COMMANDS = {
    "describe": Command(describe, "zembrel describe ortho/m1.tif ortho/m4.tif --stats"),
    "index": Command(index, "zembrel index ortho/ --out sheets.geojson"),
    "label": Command(label, "zembrel label scan.tif --crs EPSG:32626 --nodata 0"),
    "formats": Command(formats, "zembrel formats geotiff"),
}
