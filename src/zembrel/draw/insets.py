"""Parts of a map that are shown larger, in its corners."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from zembrel.draw.colouring import Inset, Look, painted
from zembrel.draw.layout import Box, axes_at, box_of
from zembrel.draw.ticks import INK
from zembrel.engine.limits import Limits
from zembrel.facts import Fact, fact
from zembrel.grid.pane import Pane
from zembrel.raster.model import Raster
from zembrel.raster.views.place import crop

_SHARE, _MARGIN = 0.34, 10  # of the map's sides that an inset may take; pixels around it
MOST = 4
_MARK, _LINE = "#c2185b", 1.3


def add_insets(
    axes: Any, view: Raster, insets: Sequence[Inset], look: Look, limits: Limits
) -> tuple[Fact, ...]:
    """Each inset in a corner of its own, lower left first, its ground marked; says what they are."""
    from matplotlib.patches import Rectangle

    outer = box_of(axes)
    said = []
    for number, inset in enumerate(insets[:MOST]):
        room = _SHARE * (outer.right - outer.left), _SHARE * (outer.top - outer.bottom)
        part = crop(view, _fitting(inset.pane, *map(int, room)) if inset.exact else inset.pane)
        columns, rows = part.frame.columns, part.frame.rows
        scale = 1.0 if inset.exact else min(room[0] / columns, room[1] / rows)
        width, height = columns * scale, rows * scale
        made = painted(part, look, limits, max(columns, rows) if inset.exact else round(max(width, height)))
        left = outer.left + _MARGIN if number in (0, 1) else outer.right - _MARGIN - width
        bottom = outer.bottom + _MARGIN if number in (0, 3) else outer.top - _MARGIN - height
        inner = axes_at(axes.figure, Box(left, bottom, left + width, bottom + height))
        inner.imshow(made.image, interpolation="nearest", aspect="auto")
        inner.set_xticks([])
        inner.set_yticks([])
        for side in inner.spines.values():
            side.set_color(_MARK)
            side.set_linewidth(_LINE)
        inner.set_facecolor("#eceae4")
        letter = "ABCD"[number]
        clear = {"facecolor": "white", "alpha": 0.8, "edgecolor": "none", "pad": 1.5}
        place = {"transform": inner.transAxes, "va": "top", "fontsize": 8, "color": INK, "bbox": clear}
        inner.text(4 / width, 1 - 4 / height, f"{letter}  {inset.name}", **place)
        west, south, east, north = part.frame.bounds
        style: Any = {"fill": False, "zorder": 6, "edgecolor": _MARK, "linewidth": _LINE}
        axes.add_patch(Rectangle((west, south), east - west, north - south, **style))
        axes.text(east, north, letter, fontsize=8, color=_MARK, va="bottom", ha="left", zorder=6)
        said.append(fact("inset", letter=letter, name=inset.name))
    return tuple(said)


def _fitting(pane: Pane, columns: int, rows: int) -> Pane:
    """The middle of a pane, at most so large."""
    across, down = max(1, min(pane.columns, columns)), max(1, min(pane.rows, rows))
    left, top = pane.left + (pane.columns - across) // 2, pane.top + (pane.rows - down) // 2
    return Pane(top, left, top + down, left + across)
