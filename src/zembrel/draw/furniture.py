"""What stands around a picture: a bar of its ramp or its legend, scale bar, north, lines, CRS and extent."""

from __future__ import annotations

import math
import textwrap
from collections.abc import Sequence
from typing import Any

import numpy as np

from zembrel.draw.layout import Box, axes_at, box_of
from zembrel.draw.ramps import colour_map
from zembrel.draw.ticks import INK, label_ground, label_values
from zembrel.geodesy.crs import label
from zembrel.grid.extent import ground
from zembrel.grid.frame import Frame
from zembrel.grid.north import TrueNorth
from zembrel.measure import LENGTHS
from zembrel.raster.model import Band

_WRAPPED, _LEADING = 46, 17  # characters of a line of facts, and pixels from line to line
_HEADING_ROOM = 640  # pixels that both headings need
_PAIRS = {"mi": ("mi", "ft"), "ft": ("mi", "ft"), "yd": ("mi", "yd"), "nmi": ("nmi", "m")}
_CLEAR = {"facecolor": "white", "alpha": 0.75, "edgecolor": "none", "pad": 1.5}


def ramp_bar(axes: Any, limits: tuple[float, float], ramp: str, band: Band) -> None:
    """The ramp right beside the map."""
    from matplotlib import cm
    from matplotlib.colors import Normalize

    _, bottom, right, top = box_of(axes)
    bar_axes = axes_at(axes.figure, Box(right + 16, bottom, right + 34, top))
    scale = cm.ScalarMappable(Normalize(*limits), colour_map(ramp))
    bar = axes.figure.colorbar(scale, cax=bar_axes)
    bar.outline.set_visible(False)
    label_values(bar_axes.yaxis, max(3, int((top - bottom) / 60)))
    bar_axes.tick_params(labelsize=9, colors=INK)
    bar.set_label(f"{band.name} ({band.unit})" if band.unit else band.name, color=INK, fontsize=9)


def class_legend(axes: Any, band: Band) -> None:
    from matplotlib.patches import Patch

    assert band.legend is not None
    patches = [
        Patch(
            facecolor=np.array(entry.colour) / 255,
            edgecolor=INK,
            linewidth=0.4,
            label=f"{entry.code}  {entry.name}",
        )
        for entry in band.legend.entries
        if entry.name
    ]
    left, _, right, _ = box_of(axes)
    axes.legend(
        handles=patches, loc="upper left", bbox_to_anchor=(1 + 14 / (right - left), 1.0), borderaxespad=0,
        frameon=False, fontsize=10 if right - left > _HEADING_ROOM else 9,
    )  # fmt: skip


def furnish(axes: Any, frame: Frame, title: str, amount: str, units: str | None = None) -> None:
    """Ticks, headings, scale bars and north of a map that stands where it shall."""
    west, _, east, _ = frame.bounds
    left, bottom, right, top = box_of(axes)
    label_ground(axes, frame.crs, right - left, top - bottom)
    for side in axes.spines.values():
        side.set_color("#8a8a86")
    narrow = right - left < _HEADING_ROOM
    axes.set_title(title, loc="left", fontsize=11 if narrow else 15, color=INK, pad=20 if narrow else 10)
    axes.text(
        0.0 if narrow else 1.0, 1 + 6 / (top - bottom), "   ".join(filter(None, (label(frame.crs), amount))),
        transform=axes.transAxes, ha="left" if narrow else "right", fontsize=8 if narrow else 9, color="#555",
    )  # fmt: skip
    if frame.crs is None:
        return
    per_x, _ = ground(frame)
    _scale_bar(axes, (east - west) * per_x, ("km", "m"), 16)
    second = units or ("ft" if "foot" in frame.crs.unit.name else None)
    if second is not None:
        _scale_bar(axes, (east - west) * per_x, _PAIRS[second], 46)
    _north(axes, TrueNorth(frame).middle())


def write_facts(figure: Any, box: Box, facts: Sequence[tuple[str, str]]) -> float:
    """Names and what they are, long ones on several lines; returns where they end."""
    axes = axes_at(figure, box)
    axes.axis("off")
    height, at = box.top - box.bottom, 0
    for name, text in facts:
        lines = textwrap.wrap(text, _WRAPPED) or [""]
        for number, line in enumerate(lines[:4]):
            y = 1 - at * _LEADING / height
            if not number:
                axes.text(0.0, y, name, fontsize=9, color="#666", va="top", transform=axes.transAxes)
            axes.text(0.17, y, line, fontsize=9, color=INK, va="top", transform=axes.transAxes)
            at += 1
    return box.top - at * _LEADING


def attribute(axes: Any, text: str) -> None:
    """Where the data come from, in the lower left corner of a map."""
    left, bottom, right, top = box_of(axes)
    axes.text(
        6 / (right - left), 6 / (top - bottom), text,
        transform=axes.transAxes, fontsize=8, color=INK, bbox=_CLEAR, zorder=7,
    )  # fmt: skip


def _north(axes: Any, turned: float) -> None:
    """An arrow towards true north, in the upper right corner."""
    left, bottom, right, top = box_of(axes)
    if min(right - left, top - bottom) < 180:
        return
    x, y = math.sin(math.radians(turned)) / (right - left), math.cos(math.radians(turned)) / (top - bottom)
    middle = 1 - 24 / (right - left), 1 - 34 / (top - bottom)
    head, tail, letter = ((middle[0] + x * reach, middle[1] + y * reach) for reach in (22, -8, -17))
    arrow = {
        "arrowstyle": "-|>,head_width=0.32,head_length=0.6",
        "color": INK,
        "linewidth": 1.4,
        "shrinkA": 0,
    }
    axes.annotate(
        "",
        xy=head,
        xytext=tail,
        xycoords="axes fraction",
        textcoords="axes fraction",
        arrowprops=arrow,
        zorder=7,
    )
    axes.text(
        *letter, "N", transform=axes.transAxes, ha="center", va="center", fontsize=9, color=INK,
        bbox=_CLEAR, zorder=7,
    )  # fmt: skip


def _scale_bar(axes: Any, ground_width: float, units: tuple[str, str], above: float) -> None:
    """A bar of 1, 2 or 5 times a power of ten of the larger unit that fits about a fifth of the width."""
    unit = next((u for u in units if ground_width / 5 >= float(LENGTHS[u])), units[-1])
    width = ground_width / float(LENGTHS[unit])
    target = width / 5
    power = 10 ** math.floor(math.log10(target))
    length = max(step * power for step in (1, 2, 5) if step * power <= target)
    share = length / width
    box = box_of(axes)
    pixel = 1 / (box.top - box.bottom)
    right, y = 1 - 22 / (box.right - box.left), above * pixel
    style: dict[str, Any] = {"transform": axes.transAxes, "linewidth": 0.6, "edgecolor": INK, "zorder": 7}
    for half, colour in ((0, INK), (1, "white")):
        left = right - share + half * share / 2
        axes.add_patch(_bar(left, y, share / 2, 6 * pixel, facecolor=colour, **style))
    axes.text(
        right - share / 2, y + 10 * pixel, f"{length:,.10g} {unit}",
        transform=axes.transAxes, ha="center", fontsize=9, color=INK, bbox=_CLEAR, zorder=7,
    )  # fmt: skip


def _bar(x: float, y: float, width: float, height: float, **style: Any) -> Any:
    from matplotlib.patches import Rectangle

    return Rectangle((x, y), width, height, **style)
