"""deliver globe: a KMZ of rasters and features."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from zembrel.cli.bring import Method
from zembrel.cli.change import Stretch
from zembrel.cli.command import Command
from zembrel.cli.deliver.devices import CarryTo, DeviceName, carry_of
from zembrel.cli.show import LIGHT, ClassColours, Light, Ramp, RampEnds, Shaded
from zembrel.verbs.options import Inputs, Output, Where


def globe(
    inputs: Inputs,
    where: Where,
    output: Output,
    each: Annotated[
        bool, typer.Option("--each", help="Every raster is a layer of its own; else all are seen as one.")
    ] = False,
    levels: Annotated[
        int | None, typer.Option("--levels", metavar="N", help="Levels of detail; as many as it takes.")
    ] = None,
    clear: Annotated[
        str | None, typer.Option("--clear", metavar="COLOUR", help="Cells of this colour become clear.")
    ] = None,
    tolerance: Annotated[
        int, typer.Option("--tolerance", metavar="N", help="How far they may be from it, of 255.")
    ] = 0,
    opacity: Annotated[
        float, typer.Option("--opacity", metavar="SHARE", help="Of pictures, 0 (clear) to 1.")
    ] = 1.0,
    order: Annotated[
        int, typer.Option("--order", metavar="N", help="Pictures of higher order lie on top.")
    ] = 0,
    visible: Annotated[
        str | None,
        typer.Option(
            "--visible", metavar="NEAR,FAR", help="Show pictures while a view is so wide: 2km,200km."
        ),
    ] = None,
    key: Annotated[bool, typer.Option("--key/--no-key", help="A legend at the edge of the screen.")] = True,
    quality: Annotated[int, typer.Option("--quality", metavar="N", help="Of JPEG, 1 to 100.")] = 85,
    method: Method = "auto",
    ramp: Ramp = None,
    legend: ClassColours = None,
    limits: RampEnds = None,
    shade: Shaded = False,
    sun: Light = LIGHT,
    stretch: Stretch = None,
    title: Annotated[str | None, typer.Option("--title", metavar="TEXT", help="Its name.")] = None,
    field: Annotated[
        str | None, typer.Option("--field", metavar="NAME", help="Colour features by this field.")
    ] = None,
    classes: Annotated[
        str,
        typer.Option("--classes", metavar="WAY:N", help="Of numbers: quantile:5, equal:5 or natural:5."),
    ] = "quantile",
    carry_to: CarryTo = None,
    device: DeviceName = None,
) -> Any:
    """A KMZ for virtual globes: pictures at full resolution as a tree of linked regions, features with their
    colours and values over them, and a key."""
    from zembrel.verbs.deliver import globe as verb
    from zembrel.verbs.paint import Brush

    brush = Brush(ramp, legend, limits, shade, sun)
    look = verb.GlobeLook(
        each, levels, clear, tolerance, opacity, order, visible, key, quality, method, brush, stretch, title,
        field, classes,
    )  # fmt: skip
    return verb.globe(inputs, where, output, look, carry_of(carry_to, device))


COMMANDS = {
    "deliver globe": Command(globe, "zembrel deliver globe island.tif tracks.geojson --out island.kmz"),
}
