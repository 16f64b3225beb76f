"""deliver chart: raster nautical charts."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from zembrel.cli.bring import Method
from zembrel.cli.change import Stretch
from zembrel.cli.command import Command
from zembrel.cli.deliver.devices import CarryTo, DeviceName, carry_of
from zembrel.cli.show import LIGHT, ClassColours, Light, Ramp, RampEnds, Shaded
from zembrel.verbs.options import Inputs, Output, Where


def chart(
    inputs: Inputs,
    where: Where,
    output: Output,
    scale: Annotated[
        int | None,
        typer.Option("--scale", metavar="N", help="In print, 25000 for 1:25,000; by the native cells."),
    ] = None,
    colours: Annotated[int, typer.Option("--colours", metavar="N", help="At most, 2 to 127.")] = 127,
    dither: Annotated[
        str, typer.Option("--dither", metavar="WAY", help="diffusion, ordered or none.")
    ] = "diffusion",
    panels: Annotated[
        str | None, typer.Option("--panels", metavar="CxR", help="Split each chart: 2x3, into a folder/.")
    ] = None,
    title: Annotated[str | None, typer.Option("--title", metavar="TEXT", help="Name of the chart.")] = None,
    number: Annotated[
        str | None, typer.Option("--number", metavar="TEXT", help="Of the chart in its series.")
    ] = None,
    edition: Annotated[str, typer.Option("--edition", metavar="TEXT", help="Of the chart.")] = "1",
    edition_date: Annotated[
        str | None,
        typer.Option(
            "--edition-date",
            metavar="DATE",
            help="Date of the edition, e.g. 2027-01-31. Default: date of the newest input.",
        ),
    ] = None,
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
    """Raster nautical charts (.kap) in Mercator: at most 127 colours, reference points and polynomials both
    ways. All inputs are one chart.kap; into a folder/ each is a chart, with a catalogue of them."""
    from zembrel.verbs.deliver import chart as verb
    from zembrel.verbs.paint import Brush

    brush = Brush(ramp, legend, limits, shade, sun)
    charting = verb.Charting(
        scale, colours, dither, panels, title, number, edition, edition_date, method, brush, stretch
    )
    return verb.chart(inputs, where, output, charting, carry_of(carry_to, device))


COMMANDS = {
    "deliver chart": Command(chart, "zembrel deliver chart island.tif --scale 25000 --out island.kap"),
}
