"""deliver film: dated images one after the other."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from zembrel.cli.bring import Method
from zembrel.cli.change import Stretch
from zembrel.cli.command import Command
from zembrel.cli.deliver.devices import CarryTo, DeviceName, carry_of
from zembrel.cli.show import LIGHT, ClassColours, Light, Ramp, RampEnds, Shaded
from zembrel.verbs.options import Inputs, Output, Where


def film(
    inputs: Inputs,
    where: Where,
    output: Output,
    size: Annotated[int, typer.Option("--size", metavar="N", help="Cells along the longer side.")] = 1280,
    rate: Annotated[float, typer.Option("--rate", metavar="N", help="Pictures a second.")] = 4.0,
    most: Annotated[
        int | None, typer.Option("--most", metavar="N", help="Pictures at most, evenly spread.")
    ] = None,
    fade: Annotated[int, typer.Option("--fade", metavar="N", help="Blends between two pictures.")] = 0,
    missing: Annotated[
        str, typer.Option("--missing", metavar="RULE", help="Of dates that are not there: hold or skip.")
    ] = "hold",
    stamp: Annotated[bool, typer.Option("--stamp/--no-stamp", help="The date on each picture.")] = True,
    method: Method = "auto",
    ramp: Ramp = None,
    legend: ClassColours = None,
    limits: RampEnds = None,
    shade: Shaded = False,
    sun: Light = LIGHT,
    stretch: Stretch = None,
    carry_to: CarryTo = None,
    device: DeviceName = None,
) -> Any:
    """A film of dated images, or of the bands of one raster: .mp4 (needs zembrel[film]), .gif or .webp. Dates
    are in the names of files or bands; all pictures have one size and one range of values."""
    from zembrel.verbs.deliver import film as verb
    from zembrel.verbs.paint import Brush

    brush = Brush(ramp, legend, limits, shade, sun)
    filming = verb.Filming(size, rate, most, fade, missing, stamp, method, brush, stretch)
    return verb.film(inputs, where, output, filming, carry_of(carry_to, device))


COMMANDS = {
    "deliver film": Command(film, "zembrel deliver film years/ --rate 2 --out island.mp4"),
}
