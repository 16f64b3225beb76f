"""A vertical section through points, as a Matplotlib picture."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.draw.colouring import Look
from zembrel.draw.layout import new_figure, save
from zembrel.draw.ramps import check_ramp, colour_map
from zembrel.draw.ticks import INK
from zembrel.facts import Fact, fact
from zembrel.raster.legend import Legend

Array = npt.NDArray[np.float64]
_MOST = 400_000  # points that are drawn
_TICK = 45  # pixels that a label on the axis of heights needs
_FLAT = 12.0  # heights are stretched at most so many times


class Section(NamedTuple):
    """Points near a line: how far along it, how high, and what they are coloured by."""

    along: Array
    height: Array
    values: Array
    length: float
    name: str  # of the values
    legend: Legend | None
    unit: str  # of lengths and heights


def draw_section(section: Section, path: Path, look: Look, title: str, said: str) -> tuple[Fact, ...]:
    """Draw a section to `path`; returns what was chosen. Raises UsageError for an unknown ramp."""
    check_ramp(look.ramp)
    figure = new_figure(look.width, look.height)
    place = _room(look)
    axes = figure.add_axes(place)
    axes.set_facecolor("#faf9f6")
    chose = _dots(axes, section, look, place)
    low, high = _ends(section.height)
    axes.set_xlim(0, section.length)
    stretch = _stretched(axes, section.length, low, high, look)
    axes.grid(color="#dcdad3", linewidth=0.5)
    axes.set_axisbelow(True)
    axes.tick_params(labelsize=9, colors=INK)
    axes.locator_params(axis="y", nbins=max(2, int(place[3] * look.height / _TICK)))
    axes.set_xlabel(f"along the line, {section.unit}", fontsize=9, color=INK)
    axes.set_ylabel(f"height, {section.unit}", fontsize=9, color=INK)
    axes.set_title(title, loc="left", fontsize=15, color=INK, pad=20)
    scale = f"heights stretched {stretch:.2g} times" if stretch > 1.05 else "heights to scale"
    axes.annotate(
        f"{said}   {scale}", (0, 1), (0, 6), xycoords="axes fraction", textcoords="offset points", fontsize=9,
        color="#555",
    )  # fmt: skip
    save(figure, path)
    return (*chose, fact("heights_stretched", times=round(stretch, 2)))


def _room(look: Look) -> tuple[float, float, float, float]:
    """Left, bottom, width and height of the axes in parts of a picture of any size, whose labels fit."""
    left, right, bottom, top = 75 / look.width, 230 / look.width, 52 / look.height, 62 / look.height
    return left, bottom, 1 - left - right, 1 - bottom - top


def _ends(heights: Array) -> tuple[float, float]:
    low, high = float(heights.min()), float(heights.max())
    pad = 0.06 * (high - low) or 1.0
    return low - pad, high + pad


def _stretched(axes: Any, length: float, low: float, high: float, look: Look) -> float:
    """Fit heights into the picture, to scale if they are high enough. Returns how far they are stretched."""
    _, _, width, height = _room(look)
    shape = (height * look.height) / (width * look.width)
    stretch = min(max(shape * length / (high - low), 1.0), _FLAT)
    room = shape * length / stretch
    middle = (low + high) / 2
    axes.set_ylim(middle - room / 2, middle + room / 2)
    return stretch


def _dots(
    axes: Any, section: Section, look: Look, place: tuple[float, float, float, float]
) -> tuple[Fact, ...]:
    step = -(-len(section.along) // _MOST)
    along, height, values = (v[::step] for v in (section.along, section.height, section.values))
    size = float(np.clip(60_000 / max(len(along), 1), 1.0, 14.0))
    style: dict[str, Any] = {"s": size, "linewidths": 0}
    said = (fact("one_point_of", step=step),) if step > 1 else ()
    if section.legend is not None:
        for entry in section.legend.entries:
            here = values == entry.code
            axes.scatter(
                along[here],
                height[here],
                color=np.array(entry.colour) / 255,
                label=f"{entry.code}  {entry.name}",
                **style,
            )
        axes.legend(loc="upper left", bbox_to_anchor=(1.015, 1.0), frameon=False, fontsize=10, markerscale=3)
        return (fact("coloured_by", by=section.name, ramp=None), *said)
    low, high = look.limits or (float(values.min()), float(values.max()))
    ramp = look.ramp or ("relief" if section.name == "height" else "viridis")
    dots = axes.scatter(along, height, c=values, cmap=colour_map(ramp), vmin=low, vmax=high, **style)
    left = place[0] + place[2] + 25 / look.width
    bar = axes.figure.colorbar(
        dots, cax=axes.figure.add_axes((left, place[1], 20 / look.width, place[3])), format="%.6g"
    )
    bar.outline.set_visible(False)
    bar.set_label(f"{section.name}, {section.unit}" if section.name == "height" else section.name, color=INK)
    return (fact("coloured_by", by=section.name, ramp=ramp), fact("value_range", low=low, high=high), *said)


def along_line(x: Array, y: Array, ends: Sequence[float]) -> tuple[Array, Array]:
    """How far points lie along a line from its first end, and how far beside it."""
    x0, y0, x1, y1 = ends
    length = float(np.hypot(x1 - x0, y1 - y0))
    east, north = (x1 - x0) / length, (y1 - y0) / length
    return (x - x0) * east + (y - y0) * north, np.abs((y - y0) * east - (x - x0) * north)
