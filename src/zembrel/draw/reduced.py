"""A raster as small as its picture."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy.typing as npt

from zembrel.engine.limits import Limits
from zembrel.engine.run import run
from zembrel.formats.whole import whole_sink
from zembrel.grid.frame import Affine, Frame
from zembrel.raster.model import Band, HasOverviews, Raster
from zembrel.raster.views.reproject import on_frame

Picture = npt.NDArray[Any]
_SPARE = 2.0  # times as many pixels as are asked for
PIXELS = 1100  # along the longer side of the raster's part of the picture


@dataclass(frozen=True)
class Reduced:
    """Cells of a small raster, (rows, columns, bands), and where they are valid, None for all."""

    frame: Frame
    bands: tuple[Band, ...]
    cells: Picture
    valid: Picture | None


def reduced(view: Raster, limits: Limits, pixels: int = PIXELS) -> Reduced:
    """`view` at most twice so large along a side, through the engine like everything else.

    An overview of that size is taken as it is: the picture makes the rest of the way.
    """
    step = max(view.frame.columns, view.frame.rows) / pixels
    source = view.coarser(step) if step > 1 and isinstance(view, HasOverviews) else view
    if max(source.frame.columns, source.frame.rows) > _SPARE * pixels:
        coded = view.bands[0].legend is not None
        source = on_frame(source, smaller(view.frame, step), "mode" if coded else "mean")
    view = source
    kept: dict[str, Any] = {}
    sink = whole_sink(view.frame, view.bands, lambda cells, valid: kept.update(cells=cells, valid=valid))
    run(view, sink, limits)
    return Reduced(view.frame, view.bands, kept["cells"], kept["valid"])


def smaller(frame: Frame, step: float) -> Frame:
    """The same ground in cells about `step` times as large."""
    columns, rows = max(1, round(frame.columns / step)), max(1, round(frame.rows / step))
    a = frame.corners
    across, down = frame.columns / columns, frame.rows / rows
    affine = Affine(a.x0, a.y0, a.x_col * across, a.y_row * down, a.x_row * down, a.y_col * across)
    return Frame(frame.crs, affine, columns, rows)
