"""paint: cells to georeferenced colours."""

from __future__ import annotations

from pathlib import Path

from zembrel.draw.ramps import check_ramp
from zembrel.facts import Fact
from zembrel.inputs.intake import take
from zembrel.inputs.layers import Layer
from zembrel.inputs.options import Inputs, Output
from zembrel.pictures.brush import Brush, painted_cells
from zembrel.raster.views.bands import select_bands
from zembrel.raster.views.unscaled import unscaled
from zembrel.results.each import one_to_one, opened
from zembrel.results.receipt import Receipt
from zembrel.results.write import Written, write


def paint(inputs: Inputs, output: Output, brush: Brush) -> Receipt:
    """The first band of each input as red, green and blue on its own frame.

    A legend's colours where there is one (and no ramp is asked for), else a ramp between the limits.
    Raises UsageError for a ramp that is not there, or a legend for cells that are no codes.
    """
    check_ramp(brush.ramp)
    brush.entries, brush.light  # noqa: B018 before anything starts
    layers, unopened = opened(take(inputs, output), output)

    def make(layer: Layer, final: Path) -> tuple[Written, list[Fact]]:
        view, chose = painted_cells(unscaled(select_bands(layer.raster, (0,))), brush, output.limits)
        return write(view, final, output), chose

    return one_to_one("paint", layers, output, make, unopened)
