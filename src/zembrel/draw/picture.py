"""A raster as a Matplotlib picture."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from zembrel.draw.colouring import ColouredCells, Extras, Look, painted
from zembrel.draw.furniture import attribute, class_legend, furnish, ramp_bar
from zembrel.draw.insets import add_insets
from zembrel.draw.layout import BAR, LEGEND, NARROW, best_grid, map_axes, new_figure, save, split, whole
from zembrel.draw.lines import contour_lines, graticule, grid_lines
from zembrel.draw.ramps import check_ramp
from zembrel.draw.reduced import PIXELS, reduced
from zembrel.draw.shapes import ShapeLook, coloured, draw_shapes
from zembrel.draw.ticks import INK
from zembrel.engine.limits import Limits
from zembrel.facts import Fact, fact
from zembrel.features.table import FeatureTable
from zembrel.grid.frame import Frame
from zembrel.raster.model import Raster
from zembrel.raster.views.bands import select_bands

NOTHING = "#eceae4"  # behind invalid cells
UNITS = ("mi", "ft", "yd", "nmi")  # of a second scale bar


class ShapeLayer(NamedTuple):
    """Features to draw over everything: their name, in the CRS of the picture, and how."""

    name: str
    table: FeatureTable
    look: ShapeLook


def draw_map(
    extent: Frame, layers: Sequence[ShapeLayer], path: Path, look: Look, title: str
) -> tuple[Fact, ...]:
    """Draw features alone, on the ground of `extent`; returns what was chosen."""
    check_ramp(look.ramp)
    figure = new_figure(look.width, look.height)
    axes = map_axes(figure, whole(look.width, look.height), extent, LEGEND)
    axes.set_facecolor("white")
    chose = _add_shapes(axes, layers, over=False)
    furnish(axes, extent, title, f"{sum(len(layer.table) for layer in layers):,} features", look.units)
    chose = (*chose, *_add_lines(axes, extent, look.extras))
    if look.extras.attribution:
        attribute(axes, look.extras.attribution)
    save(figure, path)
    return chose


def _add_shapes(axes: Any, layers: Sequence[ShapeLayer], *, over: bool) -> tuple[Fact, ...]:
    """Layers one over the other, and one legend for all."""
    chose, entries, fields = [], [], []
    for number, layer in enumerate(layers):
        colours, legend, way = coloured(layer.table, layer.look, number)
        draw_shapes(axes, layer.table, colours, hollow=over and layer.look.field is None, over=over)
        entries += legend or [(colours[0], layer.name)]
        chose.append(fact("features_coloured", layer=layer.name, way=way))
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


class View(NamedTuple):
    """A raster to draw, and what it is called."""

    name: str
    raster: Raster


def draw_picture(
    views: Sequence[View],
    path: Path,
    look: Look,
    title: str,
    limits: Limits,
    *,
    layers: Sequence[ShapeLayer] = (),
) -> tuple[Fact, ...]:
    """Draw rasters side by side to `path`, or the halves of two as one, with features over one alone; returns
    what was chosen.

    Raises UsageError for an unknown ramp.
    """
    check_ramp(look.ramp)
    figure = new_figure(look.width, look.height)
    page = whole(look.width, look.height)
    shared, made = _painted(views, look, limits)
    chose: list[Fact] = []
    if look.extras.halves:
        made = [_halved(*made)]
        title = f"{views[0].name} | {views[1].name}" if look.title is None else title
    room = max(beside(one, len(made) > 1) for one in made)
    across, down = best_grid([one.frame for one in made], page, room)
    for box, view, one in zip(split(page, across, down), views, made, strict=False):
        axes = map_axes(figure, box, view.raster.frame, room)
        show(axes, one)
        chose += [item for item in one.chose if item not in chose]
        if layers:
            chose += _add_shapes(axes, layers, over=True)
        chose += _add_extras(axes, view.raster, shared, limits)
        amount = look.amount or f"{view.raster.frame.columns:,} x {view.raster.frame.rows:,} cells"
        furnish(axes, view.raster.frame, view.name if len(made) > 1 else title, amount, look.units)
        if look.extras.attribution:
            attribute(axes, look.extras.attribution)
    save(figure, path)
    return tuple(dict.fromkeys(chose))


def _painted(views: Sequence[View], look: Look, limits: Limits) -> tuple[Look, list[ColouredCells]]:
    """All views in colours; those of one kind of values share the ends of their ramp."""
    made = [painted(view.raster, look, limits, PIXELS) for view in views]
    keys = [one.key for one in made if one.key is not None and one.key.ramp]
    alike = len(keys) == len(made) and len({(key.ramp, key.band.unit) for key in keys}) == 1
    if not alike:
        return look, made
    ends = min(key.limits[0] for key in keys), max(key.limits[1] for key in keys)
    shared = replace(look, ramp=keys[0].ramp, limits=ends)
    if len(made) == 1 or look.limits is not None:
        return shared, made
    return shared, [painted(view.raster, shared, limits, PIXELS) for view in views]


def _halved(one: ColouredCells, other: ColouredCells) -> ColouredCells:
    """The left half of one and the right half of the other, which lie on one ground, with a line between."""
    middle = one.image.shape[1] // 2
    image = np.array(other.image)
    image[:, :middle] = one.image[:, :middle]
    image[:, max(middle - 1, 0) : middle + 1] = 255
    return one._replace(image=image, chose=(*one.chose, fact("halves")))


def _add_extras(axes: Any, view: Raster, look: Look, limits: Limits) -> list[Fact]:
    extras, said = look.extras, list[Fact]()
    if extras.contours is not None:
        said.append(contour_lines(axes, reduced(select_bands(view, (0,)), limits), extras.contours))
    said += _add_lines(axes, view.frame, extras)
    return [*said, *add_insets(axes, view, extras.insets, look, limits)]


def _add_lines(axes: Any, frame: Frame, extras: Extras) -> list[Fact]:
    """Lines of the CRS, or meridians and parallels."""
    said = [] if extras.grid is None else [grid_lines(axes, frame, extras.grid)]
    return said if extras.graticule is None else [*said, graticule(axes, frame, extras.graticule)]


def beside(made: ColouredCells, panel: bool = False) -> float:
    """Pixels that stand beside a map, or one panel of several, for what its colours mean."""
    return 0 if made.key is None else BAR if made.key.ramp else NARROW if panel else LEGEND


def show(axes: Any, made: ColouredCells) -> None:
    """A painted raster on its ground, with what its colours mean beside it."""
    west, south, east, north = made.frame.bounds
    axes.set_facecolor(NOTHING)
    axes.imshow(made.image, extent=(west, east, south, north), interpolation="nearest", aspect="auto")
    if made.key is not None and made.key.ramp:
        ramp_bar(axes, made.key.limits, made.key.ramp, made.key.band)
    elif made.key is not None:
        class_legend(axes, made.key.band)
