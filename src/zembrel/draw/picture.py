"""A raster as a Matplotlib picture."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any, NamedTuple

from zembrel.draw.colouring import ColouredCells, Look, painted
from zembrel.draw.furniture import class_legend, furnish, ramp_bar
from zembrel.draw.layout import BAR, LEGEND, map_axes, whole
from zembrel.draw.ramps import check_ramp
from zembrel.draw.reduced import PIXELS
from zembrel.draw.shapes import ShapeLook, coloured, draw_shapes
from zembrel.draw.ticks import INK
from zembrel.engine.limits import Limits
from zembrel.features.table import FeatureTable
from zembrel.grid.frame import Frame
from zembrel.raster.model import Raster

NOTHING = "#eceae4"  # behind invalid cells
UNITS = ("mi", "ft", "yd", "nmi")  # of a second scale bar


class ShapeLayer(NamedTuple):
    """Features to draw over everything: their name, in the CRS of the picture, and how."""

    name: str
    table: FeatureTable
    look: ShapeLook


def draw_map(
    extent: Frame, layers: Sequence[ShapeLayer], path: Path, look: Look, title: str
) -> tuple[str, ...]:
    """Draw features alone, on the ground of `extent`; returns what was chosen."""
    from matplotlib.figure import Figure

    check_ramp(look.ramp)
    figure = Figure(figsize=(look.width / 100, look.height / 100), dpi=100, facecolor="white")
    axes = map_axes(figure, whole(look.width, look.height), extent, LEGEND)
    axes.set_facecolor("white")
    chose = _add_shapes(axes, layers, over=False)
    furnish(axes, extent, title, f"{sum(len(layer.table) for layer in layers):,} features", look.units)
    figure.savefig(path, format=path.suffix.lstrip(".").replace("jpg", "jpeg"))
    return chose


def _add_shapes(axes: Any, layers: Sequence[ShapeLayer], *, over: bool) -> tuple[str, ...]:
    """Layers one over the other, and one legend for all."""
    chose, entries, fields = [], [], []
    for number, layer in enumerate(layers):
        colours, legend, way = coloured(layer.table, layer.look, number)
        draw_shapes(axes, layer.table, colours, hollow=over and layer.look.field is None, over=over)
        entries += legend or [(colours[0], layer.name)]
        chose.append(f"{layer.name} {way}")
        fields += [layer.look.field] if layer.look.field is not None else []
    if len(entries) > 1:
        _shape_legend(axes, entries, ", ".join(dict.fromkeys(fields)), inside=over)
    return tuple(chose)


def _shape_legend(axes: Any, entries: Sequence[tuple[str, str]], title: str, *, inside: bool) -> None:
    from matplotlib.patches import Patch

    patches = [Patch(facecolor=colour, edgecolor=INK, linewidth=0.4, label=name) for colour, name in entries]
    where = {"loc": "upper left"} if inside else {"loc": "upper left", "bbox_to_anchor": (1.015, 1.0)}
    before = axes.get_legend()
    legend = axes.legend(
        handles=patches, frameon=inside, fontsize=10, framealpha=0.85, title=title or None,
        title_fontsize=10, alignment="left", **where,
    )  # fmt: skip
    legend.set_zorder(5)
    if before is not None:  # that of the raster stays
        axes.add_artist(before)


def draw_picture(
    view: Raster,
    path: Path,
    look: Look,
    title: str,
    limits: Limits,
    *,
    layers: Sequence[ShapeLayer] = (),
) -> tuple[str, ...]:
    """Draw `view` to `path`, with features over it; returns what was chosen.

    Raises UsageError for an unknown ramp.
    """
    from matplotlib.figure import Figure

    check_ramp(look.ramp)
    made = painted(view, look, limits, PIXELS)
    figure = Figure(figsize=(look.width / 100, look.height / 100), dpi=100, facecolor="white")
    axes = map_axes(figure, whole(look.width, look.height), view.frame, beside(made))
    show(axes, made)
    chose = (*made.chose, *(_add_shapes(axes, layers, over=True) if layers else ()))
    amount = look.amount or f"{view.frame.columns:,} x {view.frame.rows:,} cells"
    furnish(axes, view.frame, title, amount, look.units)
    figure.savefig(path, format=path.suffix.lstrip(".").replace("jpg", "jpeg"))
    return chose


def beside(made: ColouredCells) -> float:
    """Pixels that stand beside a map for what its colours mean."""
    return 0 if made.key is None else BAR if made.key.ramp else LEGEND


def show(axes: Any, made: ColouredCells) -> None:
    """A painted raster on its ground, with what its colours mean beside it."""
    west, south, east, north = made.frame.bounds
    axes.set_facecolor(NOTHING)
    axes.imshow(made.image, extent=(west, east, south, north), interpolation="nearest", aspect="auto")
    if made.key is not None and made.key.ramp:
        ramp_bar(axes, made.key.limits, made.key.ramp, made.key.band)
    elif made.key is not None:
        class_legend(axes, made.key.band)
