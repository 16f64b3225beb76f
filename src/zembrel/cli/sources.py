"""Verbs about remote services."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from zembrel.cli.bring import Method
from zembrel.cli.command import Command
from zembrel.verbs.options import Inputs, Output, Where


def source(
    output: Output,
    action: Annotated[str, typer.Argument(hidden=True)],
    words: Annotated[list[str] | None, typer.Argument(hidden=True)] = None,
    kind: Annotated[
        str | None,
        typer.Option(
            "--kind",
            metavar="KIND",
            help="xyz, tms, wmts, wms, wcs, tiles, coverages, stac, blocks, file or gazetteer.",
        ),
    ] = None,
    settings: Annotated[
        list[str] | None,
        typer.Option(
            "--set", metavar="KEY=VALUE", help="A key of the source file, or a variable of the address."
        ),
    ] = None,
    user: Annotated[
        bool, typer.Option("--user", help="Keep it for all projects, not in sources/ of this folder.")
    ] = False,
) -> Any:
    """add NAME ADDRESS: describe a service in a file. list: all there are. show NAME: what its file says.
    test NAME: ask it what it offers. set NAME KEY=VALUE: another version, zoom or key. remove NAME.
    cache show or cache clear [NAME]: what is kept of answers."""
    from zembrel.verbs import source as verb

    return verb.source(output, action, tuple(words or ()), kind, tuple(settings or ()), user)


def fetch(
    inputs: Inputs,
    where: Where,
    output: Output,
    dates: Annotated[
        str | None, typer.Option("--dates", metavar="DATES", help="2024, 2024-05, 2024-05-31 or FIRST..LAST.")
    ] = None,
    cloud: Annotated[
        float | None, typer.Option("--cloud", metavar="PERCENT", help="Images with at most so much cloud.")
    ] = None,
    composite: Annotated[
        str,
        typer.Option(
            "--composite",
            metavar="RULE",
            help="Of several images: latest, least-cloud, median, mean, min, max, first or last.",
        ),
    ] = "latest",
    zoom: Annotated[
        int | None, typer.Option("--zoom", metavar="N", help="Of tiles; the finest, or as --cell asks.")
    ] = None,
    blocks_where: Annotated[
        str | None,
        typer.Option(
            "--blocks-where",
            metavar="CONDITION",
            help="Entries of an index of blocks, by its fields: \"year == 2009 and product == 'points'\".",
        ),
    ] = None,
    yes: Annotated[bool, typer.Option("--yes", help="Ask for any number of pieces.")] = False,
    method: Method = "auto",
) -> Any:
    """What an area needs of a source: imagery, heights or codes onto a frame, or points as they are. What
    came is kept, so that a run which was stopped asks only for what is missing."""
    from zembrel.verbs import fetch as verb

    fetching = verb.Fetching(dates, cloud, composite, zoom, blocks_where, yes, method)
    return verb.fetch(inputs, where, output, fetching)


COMMANDS = {
    "source": Command(
        source, "zembrel source add ortho 'https://tiles.example/{z}/{x}/{y}.jpg' --kind xyz --set zooms=0-19"
    ),
    "fetch": Command(
        fetch,
        "zembrel fetch ortho --within circle:-24,46,1.5mi@EPSG:4326 --out ortho.tif",
        inputs="SOURCE is the name of one, or its file: see zembrel source list.",
    ),
}
