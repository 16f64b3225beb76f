"""A key by itself: a ramp with its values, or classes with their names, on a card."""

from __future__ import annotations

import io
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from zembrel.draw.layout import save
from zembrel.draw.ticks import INK
from zembrel.measure import show_number
from zembrel.raster.legend import Legend
from zembrel.raster.model import Raster
from zembrel.raster.views.palette import Painted
from zembrel.raster.views.ramp import RampPainted

_DPI, _ROW, _LINES = 100, 0.22, 24  # pixels and inches; rows of a column
Entries = Sequence[tuple[str, str]]  # colours and names


@dataclass(frozen=True)
class RampKey:
    """Colours (n, 3) from `low` to `high`."""

    title: str
    colours: Any
    low: float
    high: float


@dataclass(frozen=True)
class ClassKey:
    """Colours and names of classes."""

    title: str
    entries: tuple[tuple[str, str], ...]


def key_of(view: Raster, title: str) -> RampKey | ClassKey | None:
    """What the colours of a painted view mean; None for a photo."""
    if isinstance(view, RampPainted):
        band = view.source.bands[0]
        words = title if not band.unit else f"{title} ({band.unit})"
        return RampKey(words, view.table, view.low, view.high)
    band = view.source.bands[0] if isinstance(view, Painted) else view.bands[0]
    return None if band.legend is None else ClassKey(title, _entries(band.legend))


def key_picture(keys: Sequence[RampKey | ClassKey]) -> bytes:
    """The keys one below the other, as PNG."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    rows = [3.0 if isinstance(key, RampKey) else 1.4 + min(len(key.entries), _LINES) for key in keys]
    figure = Figure(figsize=(2.6, _ROW * (sum(rows) + 0.6)), dpi=_DPI)
    FigureCanvasAgg(figure)
    figure.patch.set(facecolor="white", alpha=0.88)
    axes = figure.add_axes((0, 0, 1, 1))
    axes.set(xlim=(0, 2.6), ylim=(sum(rows) + 0.6, 0))
    axes.axis("off")
    top = 0.4
    for key, height in zip(keys, rows, strict=True):
        axes.text(0.12, top + 0.35, key.title, fontsize=9, fontweight="bold", color=INK, va="center")
        if isinstance(key, RampKey):
            _ramp(axes, key, top + 0.9)
        else:
            _classes(axes, key.entries, top + 1.25)
        top += height
    held = io.BytesIO()
    save(figure, held, "png")
    return held.getvalue()


def _ramp(axes: Any, key: RampKey, top: float) -> None:
    axes.imshow(np.asarray(key.colours)[None], extent=(0.12, 2.48, top + 0.8, top), aspect="auto")
    middle = (key.low + key.high) / 2
    for at, value, side in ((0.12, key.low, "left"), (1.3, middle, "center"), (2.48, key.high, "right")):
        words = show_number(float(f"{value:.4g}"))
        axes.text(at, top + 1.2, words, fontsize=8, color=INK, ha=side, va="center")


def _classes(axes: Any, entries: Entries, top: float) -> None:
    from matplotlib.patches import Rectangle

    for row, (colour, name) in enumerate(entries[:_LINES]):
        patch = Rectangle((0.12, top + row - 0.35), 0.26, 0.7, facecolor=colour, edgecolor=INK, linewidth=0.4)
        axes.add_patch(patch)
        more = row == _LINES - 1 and len(entries) > _LINES
        words = f"and {len(entries) - row:,} more" if more else name
        axes.text(0.48, top + row, words[:34], fontsize=8, color=INK, va="center")


def _entries(legend: Legend) -> tuple[tuple[str, str], ...]:
    return tuple(
        ("#" + "".join(f"{part:02x}" for part in entry.colour[:3]), entry.name or str(entry.code))
        for entry in legend.entries
        if entry.name
    )
