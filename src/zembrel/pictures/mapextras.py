"""What else stands on a map, as people ask for it: lines, insets, halves, words."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Annotated

import numpy as np

from zembrel.draw.colouring import Extras, Inset
from zembrel.draw.insets import MOST
from zembrel.errors import InputError, UsageError
from zembrel.geodesy.operation import operation
from zembrel.grid.area import split_crs
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.inputs.lengths import in_units_of
from zembrel.inputs.options import Where
from zembrel.inputs.within import resolve
from zembrel.measure import parse_length
from zembrel.optiontext import OptionText
from zembrel.raster.model import Raster

AUTO = "auto"
_DETAIL = (300, 190)  # cells of a part that is shown cell for pixel
_LINES = 6  # about, of a grid that is chosen


@dataclass(frozen=True)
class MapExtras:
    """grid: a length between lines of the CRS, an angle between meridians, or auto; contours: between lines
    of equal value; inset: areas; detail: `X,Y[@CRS]`, shown a pixel for each cell; halves: of two layers.
    """

    grid: Annotated[
        str | None, OptionText("Draw grid lines at this spacing, e.g. 1km or 1arcmin, or auto.", "STEP")
    ] = None
    contours: Annotated[float | None, OptionText("Draw contour lines at this interval.", "VALUE")] = None
    inset: Annotated[
        Sequence[str], OptionText("Show this area enlarged. Repeatable, up to 4 times.", "AREA")
    ] = ()
    detail: Annotated[
        Sequence[str], OptionText("Show the cells around this point at 100 %. Repeatable.", "X,Y[@CRS]")
    ] = ()
    attribution: Annotated[str | None, OptionText("Attribution of the data.", "TEXT")] = None
    halves: Annotated[bool, OptionText("Show the left half of one raster and the right half of another.")] = (
        False
    )
    terminal: Annotated[bool, OptionText("Draw in the terminal.")] = False

    @property
    def of_rasters(self) -> bool:
        """Whether something is asked for that features alone do not have."""
        return bool(self.contours is not None or self.inset or self.detail or self.halves or self.terminal)


NO_EXTRAS = MapExtras()


def extras_of(asked: MapExtras, frame: Frame, view: Raster | None, where: Where) -> Extras:
    """What is asked for, on a map of `frame`, and on the raster there if there is one.

    Raises UsageError or InputError for what is not there.
    """
    if asked.contours is not None and not 0 < asked.contours < math.inf:
        raise UsageError(
            f"--contours {asked.contours:g}", "an interval is more than 0", "write --contours 50"
        )
    if len(asked.inset) + len(asked.detail) > MOST:
        raise UsageError(f"more than {MOST} insets", "a map has four corners", "leave some out")
    grid, graticule = _grid(asked.grid, frame)
    insets: list[Inset] = []
    if view is not None:
        insets += [_inset(phrase, view, where) for phrase in asked.inset]
        insets += [_detail(at, view) for at in asked.detail]
    return Extras(grid, graticule, asked.contours, tuple(insets), asked.attribution, asked.halves)


def _grid(text: str | None, frame: Frame) -> tuple[float | None, float | None]:
    """Units of the CRS between lines, or degrees between meridians and parallels."""
    if text is None:
        return None, None
    west, south, east, north = frame.bounds
    if text == AUTO:
        target = max(east - west, north - south) / _LINES
        power = 10.0 ** math.floor(math.log10(target))
        return next(step * power for step in (1, 2, 5, 10) if step * power >= target), None
    length = parse_length(text)
    degrees = frame.crs is not None and frame.crs.unit.kind == "angle"
    if not length.amount > 0:
        raise UsageError(f"--grid {text}", "lines have a distance", "write --grid 1km")
    if length.kind == "angle" and not degrees:
        return None, length.in_unit("angle", 1.0)
    return in_units_of(text, frame.crs), None


def _inset(phrase: str, view: Raster, where: Where) -> Inset:
    area = resolve(replace(where, within=phrase), view.frame.crs)
    pane = view.frame.pane_of(*area.bounds).meet(view.frame.pane)
    if pane is None:
        raise InputError(
            f"inset {phrase} lies outside", "the layer has nothing there", "check the area and its CRS"
        )
    return Inset(pane, phrase.removeprefix("place:"))


def _detail(text: str, view: Raster) -> Inset:
    """The cells around a point, one for each pixel."""
    numbers, crs = split_crs(text)
    frame = view.frame
    try:
        x, y = (np.array([float(part)]) for part in numbers.split(","))
    except ValueError as exc:
        raise UsageError(
            f"--detail {text}", "a point is needed", "write --detail X,Y or X,Y@EPSG:4326"
        ) from exc
    if crs is not None and frame.crs is not None:
        x, y = operation(crs, frame.crs)(x, y)
    column, row = (float(v[0]) for v in frame.corners.position(x, y))
    left, top = round(column - _DETAIL[0] / 2), round(row - _DETAIL[1] / 2)
    pane = Pane(top, left, top + _DETAIL[1], left + _DETAIL[0]).meet(frame.pane)
    if pane is None:
        raise InputError(
            f"detail {text} lies outside", "the layer has nothing there", "check the point and its CRS"
        )
    return Inset(pane, "at 100 %", exact=True)
