"""Heights for engines and programs: raw squares and cells of one degree."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from zembrel.cli.bring import Method
from zembrel.cli.command import Command
from zembrel.cli.deliver.devices import CarryTo, DeviceName, carry_of
from zembrel.verbs.options import Inputs, Output, Where


def heightmap(
    inputs: Inputs,
    where: Where,
    output: Output,
    overlay: Annotated[
        list[str] | None,
        typer.Option("--overlay", metavar="RASTER", help="A picture of the same square, as PNG; or more."),
    ] = None,
    size: Annotated[int, typer.Option("--size", metavar="N", help="Heights a side, 2^n + 1.")] = 1025,
    overlay_size: Annotated[
        int, typer.Option("--overlay-size", metavar="N", help="Cells a side of overlays.")
    ] = 8192,
    span: Annotated[
        str | None,
        typer.Option("--range", metavar="LO,HI", help="Heights of 0 and 65535; all there are if not said."),
    ] = None,
    order: Annotated[
        str, typer.Option("--order", metavar="ORDER", help="Bytes of a height: little or big endian.")
    ] = "little",
    north: Annotated[
        str, typer.Option("--north", metavar="SIDE", help="The first row is the top, or the bottom.")
    ] = "top",
    turn: Annotated[
        int,
        typer.Option("--turn", metavar="DEGREES", help="Clockwise, overlays too: 90 has north at the right."),
    ] = 0,
    void: Annotated[
        str, typer.Option("--void", metavar="RULE", help="What voids become: sea, lowest or a height.")
    ] = "sea",
    sea: Annotated[float, typer.Option("--sea", metavar="HEIGHT", help="Of the sea, in metres.")] = 0.0,
    method: Method = "auto",
    carry_to: CarryTo = None,
    device: DeviceName = None,
) -> Any:
    """Terrain for simulation engines: a raw square of 16-bit heights, overlays of just that square, and a
    TOML file with its measures and the sentence to type into the engine."""
    from zembrel.verbs.deliver import heightmap as verb

    shaping = verb.Shaping(
        tuple(overlay or ()), size, overlay_size, span, order, north, turn, void, sea, method
    )
    return verb.heightmap(inputs, where, output, shaping, carry_of(carry_to, device))


def hgt(
    inputs: Inputs,
    where: Where,
    output: Output,
    method: Method = "auto",
    edges: Annotated[
        bool, typer.Option("--edges", help="Also cells that only share an edge with the heights.")
    ] = False,
    carry_to: CarryTo = None,
    device: DeviceName = None,
) -> Any:
    """Heights as cells of one degree, all that cover an area, by their names (N46W024.hgt): heights every
    --cell 1arcsec or 3arcsec, by the native cells if not said."""
    from zembrel.verbs.deliver import hgt as verb

    return verb.hgt(inputs, where, output, verb.DegreeCells(method, edges), carry_of(carry_to, device))


COMMANDS = {
    "deliver heightmap": Command(
        heightmap, "zembrel deliver heightmap relief.tif --overlay island.tif --out engine/"
    ),
    "deliver hgt": Command(hgt, "zembrel deliver hgt dem/ --cell 1arcsec --out cells/"),
}
