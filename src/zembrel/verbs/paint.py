"""paint: cells to georeferenced colours."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated

import numpy as np

from zembrel.draw.ramps import check_ramp, colour_map, default_ramp
from zembrel.engine.limits import Limits
from zembrel.errors import UsageError
from zembrel.facts import Fact, fact
from zembrel.formats.legendfile import read_legend
from zembrel.geodesy.sun import Sun
from zembrel.grid.extent import ground
from zembrel.inputs.intake import take
from zembrel.inputs.layers import Layer
from zembrel.inputs.options import Inputs, Output
from zembrel.inputs.stretch import ends_of
from zembrel.measure import LENGTHS
from zembrel.optiontext import OptionText
from zembrel.raster.legend import Legend
from zembrel.raster.model import Raster
from zembrel.raster.views.bands import Relabelled, select_bands
from zembrel.raster.views.palette import expand_palette
from zembrel.raster.views.ramp import RampPainted
from zembrel.raster.views.unscaled import unscaled
from zembrel.results.each import one_to_one, opened
from zembrel.results.phrases import number_pair
from zembrel.results.receipt import Receipt
from zembrel.results.write import Written, write
from zembrel.verbs.appearance import ClassColours, Light, Ramp, RampEnds

_COLOURS = 1024


@dataclass(frozen=True)
class Brush:
    """Colours: a ramp's name or a legend's file; limits `LO,HI` in values or per cent; shade by a
    sun `AZIMUTH,ALTITUDE`."""

    ramp: Ramp = None
    legend: ClassColours = None
    limits: RampEnds = None
    shade: Annotated[bool, OptionText("Shade by the slope towards the sun.")] = False
    sun: Light = "315,45"

    @property
    def entries(self) -> Legend | None:
        """The legend, read. Raises InputError."""
        return read_legend(Path(self.legend)) if self.legend is not None else None

    @property
    def light(self) -> Sun:
        """Where light comes from. Raises UsageError."""
        azimuth, altitude = number_pair(self.sun, ",", "--sun 315,45", float)
        if not 0 < altitude <= 90:
            why = "it stands above the horizon"
            raise UsageError(f"a sun {altitude:g} degrees high", why, "write --sun 315,45")
        return Sun(azimuth, altitude)


NO_BRUSH = Brush()


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


def painted_cells(
    view: Raster, brush: Brush, limits: Limits, *, ends_from: Raster | None = None
) -> tuple[Raster, list[Fact]]:
    """A band as red, green and blue, and what was chosen; ends_from: whose values span the ramp."""
    band = view.bands[0]
    if brush.legend is not None:
        if band.dtype.kind not in "iu":
            raise UsageError(
                f"a legend for {band.type} cells",
                "classes are whole numbers",
                "use --ramp, or convert --round",
            )
        view = Relabelled(view, (replace(band, legend=brush.entries),))
    if view.bands[0].legend is not None and brush.ramp is None:
        return expand_palette(view), [fact("legend_colours")]
    ramp = brush.ramp or default_ramp(band)
    low, high = ends_of(ends_from or view, brush.limits or "0%,100%", limits)
    table = (np.asarray(colour_map(ramp)(np.linspace(0, 1, _COLOURS)))[:, :3] * 255 + 0.5).astype(np.uint8)
    cell = None
    if brush.shade:
        per_x, per_y = ground(view.frame)
        metres = LENGTHS.get(band.unit, 1.0) if band.unit else 1.0
        scale = float(metres) * (band.scale or 1.0)
        cell = view.frame.cell[0] * per_x / scale, view.frame.cell[1] * per_y / scale
    chose = [fact("ramp", ramp=ramp), fact("value_range", low=low, high=high)]
    sun = brush.light
    chose += [fact("shaded", azimuth=sun.azimuth, altitude=sun.altitude)] if cell else []
    return RampPainted(view, table, low, high, cell, sun), chose
