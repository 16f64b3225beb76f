"""One page for a layer, picture, place, histogram and facts; and a sheet of small pictures for many."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from zembrel.draw.colouring import ColouredCells, Look
from zembrel.draw.furniture import furnish, write_facts
from zembrel.draw.layout import Box, axes_at, map_axes, new_figure, save
from zembrel.draw.picture import beside, show
from zembrel.draw.ticks import INK, bare

_COLOURS = {"red": "#c0392b", "green": "#2e8b57", "blue": "#2c6fbb"}
_MAP, _SIDE = 0.62, 24  # part of the width for the map; pixels around what stands beside it
_THUMBNAIL, _WORDS = 200, 34  # pixels of a small picture, and for the words below it


class ValueSpread(NamedTuple):
    """Counts of values between edges, a row for each band of that name."""

    edges: Any
    counts: Any
    names: Sequence[str]
    axis: str


class Card(NamedTuple):
    """A small picture and the lines below it."""

    made: ColouredCells | None
    lines: Sequence[str]


class MiddlePlace(NamedTuple):
    """Degrees east and north of the middle."""

    lon: float
    lat: float


def draw_layer_page(
    made: ColouredCells,
    facts: Sequence[tuple[str, str]],
    spread: ValueSpread | None,
    place: MiddlePlace | None,
    path: Path,
    look: Look,
) -> None:
    """The map on the left; facts, histogram and place on the right."""
    figure = new_figure(look.width, look.height)
    edge = look.width * _MAP
    axes = map_axes(figure, Box(0, 0, edge, look.height), made.frame, beside(made, True))
    show(axes, made)
    furnish(axes, made.frame, look.title or "", "")
    right = look.width - _SIDE
    top = write_facts(figure, Box(edge + _SIDE, 0, right, look.height - 56), facts)
    foot = 62.0
    if place is not None:
        _globe(figure, Box(edge + _SIDE + 40, 40, edge + _SIDE + 240, 140), place)
        foot = 210.0
    if spread is not None and top - foot > 90:
        _histogram(figure, Box(edge + _SIDE + 46, foot, right, min(top - 16, foot + 200)), spread)
    save(figure, path)


def draw_contact_sheet(cards: Sequence[Card], title: str, path: Path, width: int = 1280) -> None:
    """Small pictures in rows, each with its words; as high as they need."""
    columns = max(1, (width - _SIDE) // (_THUMBNAIL + _SIDE))
    rows = -(-len(cards) // columns)
    step = _THUMBNAIL * 0.78 + _WORDS + _SIDE
    height = round(70 + rows * step)
    figure = new_figure(width, height)
    figure.text(_SIDE / width, 1 - 30 / height, title, fontsize=15, color=INK, va="center")
    across = (width - _SIDE) / columns
    for number, card in enumerate(cards):
        row, column = divmod(number, columns)
        left = _SIDE + column * across
        top = height - 56 - row * step
        axes = axes_at(figure, Box(left, top - _THUMBNAIL * 0.78, left + across - _SIDE, top))
        axes.set_xticks([])
        axes.set_yticks([])
        axes.set_facecolor("#eceae4")
        for side in axes.spines.values():
            side.set_color("#d8d6d0")
        if card.made is not None:
            rows_of, columns_of = card.made.image.shape[:2]
            axes.imshow(card.made.image, interpolation="nearest", aspect="equal")
            axes.set_xlim(-0.5, columns_of - 0.5)
            axes.set_ylim(rows_of - 0.5, -0.5)
        for line, text in enumerate(card.lines[:2]):
            figure.text(
                left / width, (top - _THUMBNAIL * 0.78 - 14 - 13 * line) / height, text[:34],
                fontsize=8.5 if not line else 7.5, color=INK if not line else "#666",
            )  # fmt: skip
    save(figure, path)


def _histogram(figure: Any, box: Box, spread: ValueSpread) -> None:
    axes = axes_at(figure, box)
    for name, counts in zip(spread.names, spread.counts, strict=True):
        axes.stairs(
            counts, spread.edges, fill=len(spread.names) == 1, color=_COLOURS.get(name, "#5b7f95"), label=name
        )
    axes.set_xlim(spread.edges[0], spread.edges[-1])
    axes.set_ylim(bottom=0)
    axes.set_xlabel(spread.axis, fontsize=9, color=INK)
    axes.set_ylabel("share of cells (%)", fontsize=9, color=INK)
    bare(axes, 5, 3)


def _globe(figure: Any, box: Box, place: MiddlePlace) -> None:
    """Where on the Earth: a net of meridians and parallels every 30 degrees, and a dot."""
    axes = axes_at(figure, box)
    axes.set_xlim(-180, 180)
    axes.set_ylim(-90, 90)
    axes.set_xticks(np.arange(-180, 181, 30))
    axes.set_yticks(np.arange(-90, 91, 30))
    axes.tick_params(length=0, labelbottom=False, labelleft=False)
    axes.grid(color="#dcdad4", linewidth=0.6)
    axes.axhline(0, color="#bbb", linewidth=0.8)
    axes.axvline(0, color="#bbb", linewidth=0.8)
    axes.plot([place.lon], [place.lat], "o", color="#c2185b", markersize=6)
    north, east = "N" if place.lat >= 0 else "S", "E" if place.lon >= 0 else "W"
    words = f"{abs(place.lat):.3f}° {north}, {abs(place.lon):.3f}° {east}"
    axes.set_xlabel(words, fontsize=9, color=INK)
    for side in axes.spines.values():
        side.set_color("#bbb")
