"""Colours of cells: by a ramp, a legend, and light."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated

import numpy as np

from zembrel.draw.ramps import colour_map, default_ramp
from zembrel.engine.limits import Limits
from zembrel.errors import UsageError
from zembrel.facts import Fact, fact
from zembrel.formats.legendfile import read_legend
from zembrel.geodesy.sun import Sun
from zembrel.grid.extent import ground
from zembrel.measure import LENGTHS
from zembrel.optiontext import OptionText
from zembrel.passes.stretch import ends_of
from zembrel.pictures.appearance import ClassColours, Light, Ramp, RampEnds
from zembrel.raster.legend import Legend
from zembrel.raster.model import Raster
from zembrel.raster.views.bands import Relabelled
from zembrel.raster.views.palette import expand_palette
from zembrel.raster.views.ramp import RampPainted
from zembrel.results.phrases import number_pair

_COLOURS = 1024


@dataclass(frozen=True)
class Brush:
    """Colours: a ramp's name or a legend's file; limits `LO,HI` in values or per cent; shade by a
    sun `AZIMUTH,ALTITUDE`."""

    ramp: Ramp = None
    legend: ClassColours = None
    limits: RampEnds = None
    shade: Annotated[bool, OptionText("Shade slopes with light from --sun.")] = False
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
