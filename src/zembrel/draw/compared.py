"""Two rasters, their difference and its histogram on one page."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from zembrel.draw.colouring import ColouredCells, Look
from zembrel.draw.furniture import furnish, write_facts
from zembrel.draw.layout import Box, axes_at, map_axes, new_figure, save, split, whole
from zembrel.draw.picture import beside, show
from zembrel.draw.ticks import INK, bare


class Panel(NamedTuple):
    """A map and its heading."""

    title: str
    made: ColouredCells


class Bars(NamedTuple):
    """Counts of differences between edges, the name of their axis, and where zero to a limit is marked."""

    edges: Any
    counts: Any
    name: str


def draw_comparison(
    panels: Sequence[Panel], bars: Bars | None, facts: Sequence[tuple[str, str]], path: Path, look: Look
) -> None:
    """Panels side by side and below each other; the last place holds the histogram and the facts."""
    figure = new_figure(look.width, look.height)
    boxes = split(whole(look.width, look.height), 2, 2)
    room = max(beside(panel.made, True) for panel in panels)
    for box, panel in zip(boxes, panels, strict=False):
        axes = map_axes(figure, box, panel.made.frame, room)
        show(axes, panel.made)
        furnish(axes, panel.made.frame, panel.title, "")
    box = boxes[3]
    if bars is not None:
        _histogram(figure, Box(box.left + 92, box.bottom + 62, box.right - 26, box.bottom + 62 + 120), bars)
    write_facts(figure, Box(box.left + 60, box.bottom, box.right - 20, box.top - 34), facts)
    save(figure, path)


def _histogram(figure: Any, box: Box, bars: Bars) -> None:
    axes = axes_at(figure, box)
    width = np.diff(bars.edges)
    axes.bar(bars.edges[:-1], bars.counts, width, align="edge", color="#5b7f95", linewidth=0)
    axes.axvline(0, color=INK, linewidth=0.8)
    axes.set_xlim(bars.edges[0], bars.edges[-1])
    axes.margins(y=0.05)
    axes.set_xlabel(bars.name, fontsize=9, color=INK)
    axes.set_ylabel("cells", fontsize=9, color=INK)
    bare(axes, 6, 4)
