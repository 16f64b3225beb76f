"""deliver pyramid: tiles of many zooms."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from zembrel.cli.bring import Method
from zembrel.cli.change import Stretch
from zembrel.cli.command import Command
from zembrel.cli.deliver.devices import CarryTo, DeviceName, carry_of
from zembrel.cli.show import LIGHT, ClassColours, Light, Ramp, RampEnds, Shaded
from zembrel.verbs.options import Inputs, Output, Where


def pyramid(
    inputs: Inputs,
    where: Where,
    output: Output,
    zooms: Annotated[
        str | None,
        typer.Option("--zooms", metavar="LOW-HIGH", help="8-14; by the native cells if not said."),
    ] = None,
    tiling: Annotated[
        str,
        typer.Option(
            "--tiling", metavar="NAME", help="Tile matrix set: WebMercatorQuad, WorldCRS84Quad and others."
        ),
    ] = "WebMercatorQuad",
    tile_cells: Annotated[
        int, typer.Option("--tile-cells", metavar="N", help="Cells along a tile, 256 or 512.")
    ] = 256,
    tile_format: Annotated[
        str,
        typer.Option(
            "--tile-format",
            metavar="FORMAT",
            help="png, jpeg, webp, auto for the one that suits, or mixed: JPEG where opaque, else PNG.",
        ),
    ] = "auto",
    quality: Annotated[int, typer.Option("--quality", metavar="N", help="Of JPEG and WebP, 1 to 100.")] = 85,
    rows: Annotated[
        str,
        typer.Option("--rows", metavar="SIDE", help="Of folders and zips: rows count from top or bottom."),
    ] = "top",
    method: Method = "auto",
    ramp: Ramp = None,
    legend: ClassColours = None,
    limits: RampEnds = None,
    shade: Shaded = False,
    sun: Light = LIGHT,
    stretch: Stretch = None,
    title: Annotated[
        str | None, typer.Option("--title", metavar="TEXT", help="What the pack calls itself.")
    ] = None,
    attribution: Annotated[
        str | None, typer.Option("--attribution", metavar="TEXT", help="Whose data it is.")
    ] = None,
    heights: Annotated[
        str | None,
        typer.Option(
            "--heights",
            metavar="WAY",
            help="Heights themselves: grey of 16 bits, or colours of 24; the formula is in the metadata.",
        ),
    ] = None,
    viewer: Annotated[
        str | None,
        typer.Option("--viewer", metavar="PAGE", help="A page that shows the tiles of a folder: map.html."),
    ] = None,
    beside: Annotated[
        list[str] | None,
        typer.Option("--beside", metavar="FOLDER", help="Another pack on that page; or more."),
    ] = None,
    resume: Annotated[
        bool,
        typer.Option("--resume", help="Keep what is made until all is; go on from what is kept."),
    ] = False,
    carry_to: CarryTo = None,
    device: DeviceName = None,
) -> Any:
    """Tiles of many zooms for phones, controllers and web maps: a folder/, .zip, .mbtiles, .gpkg or .pmtiles.
    The finest tiles are resampled once from the source, all others made of the four below them."""
    from zembrel.verbs.deliver import pyramid as verb
    from zembrel.verbs.paint import Brush

    brush = Brush(ramp, legend, limits, shade, sun)
    packing = verb.Packing(
        zooms, tiling, tile_cells, tile_format, quality, rows, method, brush, stretch, title,
        attribution or "", heights, viewer, tuple(beside or ()), resume,
    )  # fmt: skip
    return verb.pyramid(inputs, where, output, packing, carry_of(carry_to, device))


COMMANDS = {
    "deliver pyramid": Command(pyramid, "zembrel deliver pyramid island.tif --out island.mbtiles"),
}
