"""Lines over a map: of its CRS, of longitude and latitude, and of equal value."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np

from zembrel.draw.layout import box_of
from zembrel.draw.reduced import Reduced
from zembrel.draw.ticks import INK
from zembrel.facts import Fact, fact
from zembrel.geodesy.crs import GeographicCRS, ProjectedCRS
from zembrel.geodesy.registry import by_code
from zembrel.grid.extent import carried_bounds
from zembrel.grid.frame import Frame

_MOST = 60  # lines one way
_BENDS = 120  # places along a line
_LIGHT = {"color": INK, "linewidth": 0.5, "alpha": 0.55, "zorder": 4}
_CLEAR = {"facecolor": "white", "alpha": 0.75, "edgecolor": "none", "pad": 1.0}


def steps_between(low: float, high: float, step: float) -> list[float]:
    """Multiples of a step, as many as can be told apart."""
    first, last = math.ceil(low / step - 1e-9), math.floor(high / step + 1e-9)
    return [] if last - first >= _MOST else [n * step for n in range(first, last + 1)]


def grid_lines(axes: Any, frame: Frame, step: float) -> Fact:
    """Lines of the CRS; says what they are."""
    west, south, east, north = frame.bounds
    across, down = steps_between(west, east, step), steps_between(south, north, step)
    for x in across:
        axes.axvline(x, **_LIGHT)
    for y in down:
        axes.axhline(y, **_LIGHT)
    return _told("lines", step, across, down)


def graticule(axes: Any, frame: Frame, step: float) -> Fact:
    """Meridians and parallels, with their names where they enter; says what they are."""
    crs = frame.crs
    if not isinstance(crs, GeographicCRS | ProjectedCRS):
        return fact("no_graticule")
    west, south, east, north = carried_bounds(frame, by_code(4326))
    meridians, parallels = steps_between(west, east, step), steps_between(south, north, step)
    for value in meridians:
        x, y = _placed(crs, np.full(_BENDS, value), np.linspace(south, north, _BENDS))
        axes.plot(x, y, **_LIGHT)
        _name(axes, frame, x, y, _degrees(value, step, "EW"), True)
    for value in parallels:
        x, y = _placed(crs, np.linspace(west, east, _BENDS), np.full(_BENDS, value))
        axes.plot(x, y, **_LIGHT)
        _name(axes, frame, x, y, _degrees(value, step, "NS"), False)
    return _told("graticule", _degrees(step, step, "  ").strip(), meridians, parallels)


def _told(what: str, step: float | str, across: Sequence[float], down: Sequence[float]) -> Fact:
    """What was drawn, or that this step leaves nothing to draw."""
    return (
        fact("lines", what=what, step=step)
        if across or down
        else fact("no_lines", what=what, step=step, most=_MOST)
    )


def _placed(crs: GeographicCRS | ProjectedCRS, lon: Any, lat: Any) -> tuple[Any, Any]:
    return crs.from_geographic(np.radians(lon), np.radians(lat))


def _name(axes: Any, frame: Frame, x: Any, y: Any, name: str, meridian: bool) -> None:
    """A line's name where it leaves the map, at the top or on the right, if there is room."""
    west, south, east, north = frame.bounds
    box = box_of(axes)
    per_x, per_y = (east - west) / (box.right - box.left), (north - south) / (box.top - box.bottom)
    if meridian:
        at_x, at_y = float(np.interp(north - 4 * per_y, y, x)), north - 4 * per_y
        fits = west + 34 * per_x < at_x < east - 90 * per_x and y.max() > north - 4 * per_y
    else:
        at_x, at_y = east - 4 * per_x, float(np.interp(east - 4 * per_x, x, y))
        fits = south + 50 * per_y < at_y < north - 90 * per_y and x.max() > east - 4 * per_x
    if fits:
        where = {"ha": "center", "va": "top"} if meridian else {"ha": "right", "va": "center"}
        axes.text(at_x, at_y, name, fontsize=8, color=INK, bbox=_CLEAR, zorder=6, **where)


def _degrees(value: float, step: float, signs: str) -> str:
    """`24°02'W`, as exact as a step of minutes or seconds needs it."""
    sign = "" if value == 0 else signs[int(value < 0)]
    seconds = round(abs(value) * 3600, 6)
    if abs(step - round(step)) < 1e-9:
        return f"{round(abs(value))}°{sign}"
    if abs(step * 3600 - round(step * 3600)) > 1e-6:
        return f"{abs(value):.6g}°{sign}"
    whole, rest = divmod(round(seconds), 3600)
    minutes, rest = divmod(rest, 60)
    last = f"{rest:02}\u2033" if abs(step * 60 - round(step * 60)) > 1e-6 else ""
    return f"{whole}°{minutes:02}\u2032{last}{sign}"


def contour_lines(axes: Any, small: Reduced, interval: float) -> Fact:
    """Lines of equal value, every fifth stronger and named; says what they are."""
    from matplotlib.patheffects import withStroke

    values = np.ma.masked_array(
        small.cells[:, :, 0].astype(float), False if small.valid is None else ~small.valid
    )
    if not values.count():
        return fact("no_contours_nothing_valid")
    first, last = math.ceil(values.min() / interval), math.floor(values.max() / interval)
    if last - first > 400:
        return fact("no_contours_too_many", levels=last - first)
    frame = small.frame
    columns, rows = np.arange(frame.columns, dtype=float), np.arange(frame.rows, dtype=float)
    x, _ = frame.centres(columns, np.zeros(frame.columns))
    _, y = frame.centres(np.zeros(frame.rows), rows)
    levels = [n * interval for n in range(first, last + 1)]
    widths = [1.0 if n % 5 == 0 else 0.45 for n in range(first, last + 1)]
    if not levels:
        return fact("no_contours_none_reached")
    drawn = axes.contour(x, y, values, levels=levels, colors=INK, linewidths=widths, alpha=0.75, zorder=3)
    named = [n * interval for n in range(first, last + 1) if n % 5 == 0] or levels[:1]
    for name in axes.clabel(drawn, levels=named, fontsize=8, fmt=lambda value: f"{value:,.6g}") or ():
        name.set_path_effects([withStroke(linewidth=2.2, foreground="white")])
    return fact("contours", interval=interval)
