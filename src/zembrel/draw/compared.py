"""Two rasters, their difference and its histogram on one page."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from zembrel.draw.colouring import ColouredCells, Look
from zembrel.draw.furniture import furnish
from zembrel.draw.layout import Box, axes_at, map_axes, split, whole
from zembrel.draw.picture import beside, show
from zembrel.draw.ticks import INK, label_values


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
    from matplotlib.figure import Figure

    figure = Figure(figsize=(look.width / 100, look.height / 100), dpi=100, facecolor="white")
    boxes = split(whole(look.width, look.height), 2, 2)
    room = max(beside(panel.made, True) for panel in panels)
    for box, panel in zip(boxes, panels, strict=False):
        axes = map_axes(figure, box, panel.made.frame, room)
        show(axes, panel.made)
        furnish(axes, panel.made.frame, panel.title, "")
    box = boxes[3]
    if bars is not None:
        _histogram(figure, Box(box.left + 92, box.bottom + 62, box.right - 26, box.bottom + 62 + 120), bars)
    _facts(
        figure,
        Box(box.left + 60, box.bottom + 205 if bars else box.bottom, box.right - 20, box.top - 40),
        facts,
    )
    figure.savefig(path, format=path.suffix.lstrip(".").replace("jpg", "jpeg"))


def _histogram(figure: Any, box: Box, bars: Bars) -> None:
    axes = axes_at(figure, box)
    width = np.diff(bars.edges)
    axes.bar(bars.edges[:-1], bars.counts, width, align="edge", color="#5b7f95", linewidth=0)
    axes.axvline(0, color=INK, linewidth=0.8)
    axes.set_xlim(bars.edges[0], bars.edges[-1])
    axes.margins(y=0.05)
    axes.set_xlabel(bars.name, fontsize=9, color=INK)
    axes.set_ylabel("cells", fontsize=9, color=INK)
    label_values(axes.xaxis, 6)
    label_values(axes.yaxis, 4)
    axes.tick_params(labelsize=9, colors=INK)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)


def _facts(figure: Any, box: Box, facts: Sequence[tuple[str, str]]) -> None:
    """Names and what they are, a line each."""
    axes = axes_at(figure, box)
    axes.axis("off")
    height = box.top - box.bottom
    for number, (name, text) in enumerate(facts):
        y = 1 - (number + 0.5) * min(18 / height, 1 / max(len(facts), 1))
        axes.text(0.0, y, name, fontsize=9, color="#666", va="center", transform=axes.transAxes)
        axes.text(0.24, y, text, fontsize=9, color=INK, va="center", transform=axes.transAxes)
