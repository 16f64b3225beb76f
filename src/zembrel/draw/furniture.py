"""What stands around a picture: a bar of its ramp or its legend, a scale bar, CRS and extent."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from zembrel.draw.ramps import colour_map
from zembrel.geodesy.crs import label
from zembrel.grid.extent import ground
from zembrel.grid.frame import Frame
from zembrel.measure import LENGTHS
from zembrel.raster.model import Band

_TICK_ROOM, _HEADING_ROOM = 90, 640  # pixels that a label on an axis, and both headings, need
INK = "#2b2b2b"
_PAIRS = {"mi": ("mi", "ft"), "ft": ("mi", "ft"), "yd": ("mi", "yd"), "nmi": ("nmi", "m")}


def ramp_bar(axes: Any, limits: tuple[float, float], ramp: str, band: Band) -> None:
    """The ramp right beside the map, however wide that is."""
    from matplotlib import cm
    from matplotlib.colors import Normalize
    from mpl_toolkits.axes_grid1.axes_divider import AxesDivider
    from mpl_toolkits.axes_grid1.axes_size import AxesX, AxesY

    divider = AxesDivider(axes, xref=AxesX(axes), yref=AxesY(axes, aspect="axes", ref_ax=axes))
    axes.set_axes_locator(divider.new_locator(nx=0, ny=0))
    bar_axes = divider.append_axes("right", size=0.2, pad=0.35)  # inches
    scale = cm.ScalarMappable(Normalize(*limits), colour_map(ramp))
    bar = axes.figure.colorbar(scale, cax=bar_axes)
    bar.outline.set_visible(False)
    bar.set_label(f"{band.name} ({band.unit})" if band.unit else band.name, color=INK)


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
    axes.legend(handles=patches, loc="upper left", bbox_to_anchor=(1.015, 1.0), frameon=False, fontsize=10)


def furnish(axes: Any, frame: Frame, title: str, amount: str, units: str | None = None) -> None:
    west, south, east, north = frame.bounds
    axes.set_xlim(west, east)
    axes.set_ylim(south, north)
    per_x, per_y = ground(frame)
    axes.set_aspect(per_y / per_x)
    axes.ticklabel_format(useOffset=False, style="plain")
    axes.apply_aspect()
    width, height = axes.get_window_extent().size
    axes.locator_params(axis="x", nbins=max(1, min(6, int(width / _TICK_ROOM))), min_n_ticks=1)
    axes.locator_params(axis="y", nbins=max(1, min(6, int(height / _TICK_ROOM))))
    axes.tick_params(labelsize=9, colors=INK)
    for side in axes.spines.values():
        side.set_color("#8a8a86")
    degrees = frame.crs is not None and frame.crs.unit.kind == "angle"
    axes.set_xlabel("longitude, degrees" if degrees else "easting", fontsize=9, color=INK)
    axes.set_ylabel("latitude, degrees" if degrees else "northing", fontsize=9, color=INK)
    narrow = width < _HEADING_ROOM
    axes.set_title(title, loc="left", fontsize=15, color=INK, pad=22 if narrow else 10)
    axes.text(
        0.0 if narrow else 1.0, 1.015, f"{label(frame.crs)}   {amount}",
        transform=axes.transAxes, ha="left" if narrow else "right", fontsize=9, color="#555",
    )  # fmt: skip
    if frame.crs is not None:
        _scale_bar(axes, (east - west) * per_x, ("km", "m"), 0.035)
        second = units or ("ft" if "foot" in frame.crs.unit.name else None)
        if second is not None:
            _scale_bar(axes, (east - west) * per_x, _PAIRS[second], 0.085)


def _scale_bar(axes: Any, ground_width: float, units: tuple[str, str], y: float) -> None:
    """A bar of 1, 2 or 5 times a power of ten of the larger unit that fits about a fifth of the width."""
    unit = next((u for u in units if ground_width / 5 >= float(LENGTHS[u])), units[-1])
    width = ground_width / float(LENGTHS[unit])
    target = width / 5
    power = 10 ** math.floor(math.log10(target))
    length = max(step * power for step in (1, 2, 5) if step * power <= target)
    share = length / width
    text = f"{length:g} {unit}"
    right, height = 0.97, 0.009
    style: dict[str, Any] = {
        "transform": axes.transAxes,
        "clip_on": False,
        "linewidth": 0.6,
        "edgecolor": INK,
    }
    for half, colour in ((0, INK), (1, "white")):
        left = right - share + half * share / 2
        axes.add_patch(_bar(left, y, share / 2, height, facecolor=colour, **style))
    box = {"facecolor": "white", "alpha": 0.75, "edgecolor": "none", "pad": 1.5}
    axes.text(
        right - share / 2,
        y + 0.018,
        text,
        transform=axes.transAxes,
        ha="center",
        fontsize=9,
        color=INK,
        bbox=box,
    )


def _bar(x: float, y: float, width: float, height: float, **style: Any) -> Any:
    from matplotlib.patches import Rectangle

    return Rectangle((x, y), width, height, **style)
