"""Verbs that say where and how fine."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from zembrel.cli.command import Command
from zembrel.verbs.options import Inputs, Output, Where


def frame(
    inputs: Inputs,
    where: Where,
    output: Output,
    columns: Annotated[
        int | None, typer.Option("--columns", metavar="N", help="Columns, with --rows instead of --cell.")
    ] = None,
    rows: Annotated[int | None, typer.Option("--rows", metavar="N", help="Rows.")] = None,
    origin: Annotated[
        str | None, typer.Option("--origin", metavar="X,Y", help="A point of the lattice.  [0,0]")
    ] = None,
    registration: Annotated[
        str | None,
        typer.Option(
            "--registration", metavar="cell|node", help="What a value stands for: its cell, or a node."
        ),
    ] = None,
) -> Any:
    """A frame says where and how fine. Make one from rasters or an area; shown unless --out saves it."""
    from zembrel.verbs import frame as verb

    return verb.frame(
        inputs, where, output, columns=columns, rows=rows, origin=origin, registration=registration
    )


COMMANDS = {
    "frame": Command(
        frame,
        "zembrel frame --within square:-24,46,5km@EPSG:4326 --crs EPSG:32626 --cell 2m --out m.frame.toml",
    ),
}
