"""Where maps stand in a picture: as large as their box allows, with room for what stands around them."""

from __future__ import annotations

import warnings
from collections.abc import Sequence
from pathlib import Path
from typing import Any, BinaryIO, NamedTuple

from zembrel.clock import time_of_writing
from zembrel.grid.extent import ground
from zembrel.grid.frame import Frame

LEFT, RIGHT, TOP, BOTTOM = 104, 24, 62, 60  # pixels for labels around a map
BAR, LEGEND, NARROW = 104, 230, 176  # pixels beside a map for a ramp, for names, and for these in a panel


class Box(NamedTuple):
    """A part of a picture in pixels from its lower left corner."""

    left: float
    bottom: float
    right: float
    top: float


def whole(width: int, height: int) -> Box:
    """A picture of that size."""
    return Box(0, 0, width, height)


def new_figure(width: float, height: float) -> Any:
    """A white picture of so many pixels."""
    from matplotlib.figure import Figure

    return Figure(figsize=(width / 100, height / 100), dpi=100, facecolor="white")


def save(figure: Any, path: str | Path | BinaryIO, form: str | None = None) -> None:
    """Write a picture in the format `form`, by default the one that its name says. No text is a formula."""
    from matplotlib import rc_context
    from matplotlib.text import Text

    for text in figure.findobj(Text):
        text.set_parse_math(False)
    form = form or Path(str(path)).suffix.lstrip(".").lower().replace("jpg", "jpeg")
    facts: dict[str, Any] = {
        "svg": {"Date": time_of_writing().isoformat()}, "pdf": {"CreationDate": time_of_writing()},
        "png": {"Software": None},
    }  # fmt: skip
    with warnings.catch_warnings(), rc_context({"svg.hashsalt": "zembrel"}):  # the same names each time
        warnings.filterwarnings("ignore", message="Glyph .* missing")  # of a script that the font has not
        figure.savefig(path, format=form, metadata=facts.get(form))


def split(box: Box, columns: int, rows: int) -> list[Box]:
    """Boxes of one size, from the upper left, row by row."""
    across, down = (box.right - box.left) / columns, (box.top - box.bottom) / rows
    return [
        Box(box.left + c * across, box.top - (r + 1) * down, box.left + (c + 1) * across, box.top - r * down)
        for r in range(rows)
        for c in range(columns)
    ]


def best_grid(frames: Sequence[Frame], page: Box, beside: float) -> tuple[int, int]:
    """Columns and rows of panels in which maps of these frames, with so much beside them, are largest."""
    shapes = []
    for frame in frames:
        west, south, east, north = frame.bounds
        per_x, per_y = ground(frame)
        shapes.append((east - west) * per_x / max((north - south) * per_y, 1e-12))
    shape = sum(shapes) / len(shapes)

    def size(columns: int) -> float:
        rows = -(-len(frames) // columns)
        across = (page.right - page.left) / columns - LEFT - RIGHT - beside
        return min(across, ((page.top - page.bottom) / rows - TOP - BOTTOM) * shape)

    columns = max(range(1, len(frames) + 1), key=size)
    return columns, -(-len(frames) // columns)


def map_axes(figure: Any, box: Box, frame: Frame, beside: float) -> Any:
    """Axes for the ground of `frame`, true to scale, in the middle of `box`.

    beside: pixels to the right of the map that its ramp or legend needs.
    """
    west, south, east, north = frame.bounds
    per_x, per_y = ground(frame)
    shape = max((east - west) * per_x, 1e-12) / max((north - south) * per_y, 1e-12)
    room_x = max(box.right - box.left - LEFT - RIGHT - beside, 20)
    room_y = max(box.top - box.bottom - TOP - BOTTOM, 20)
    across = min(room_x, room_y * shape)
    along = across / shape
    left = box.left + LEFT + (room_x - across) / 2
    bottom = box.bottom + BOTTOM + (room_y - along) / 2
    axes = axes_at(figure, Box(left, bottom, left + across, bottom + along))
    axes.set_xlim(west, east)
    axes.set_ylim(south, north)
    axes.set_aspect("auto")
    return axes


def axes_at(figure: Any, box: Box) -> Any:
    """Axes that fill a box."""
    width, height = figure.get_size_inches() * figure.dpi
    left, bottom, right, top = box
    return figure.add_axes((left / width, bottom / height, (right - left) / width, (top - bottom) / height))


def box_of(axes: Any) -> Box:
    """Where axes stand."""
    width, height = axes.figure.get_size_inches() * axes.figure.dpi
    place = axes.get_position()
    return Box(place.x0 * width, place.y0 * height, place.x1 * width, place.y1 * height)
