"""A raster as a Matplotlib picture."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.draw.furniture import class_legend, furnish, ramp_bar
from zembrel.draw.ramps import check_ramp, colour_map, default_ramp
from zembrel.draw.shapes import ShapeLook, coloured, draw_shapes
from zembrel.engine.limits import Limits
from zembrel.engine.run import run
from zembrel.errors import UsageError
from zembrel.features.table import FeatureTable
from zembrel.formats.whole import whole_sink
from zembrel.grid.extent import ground
from zembrel.grid.frame import Affine, Frame
from zembrel.raster.legend import Legend
from zembrel.raster.model import Band, HasOverviews, Raster, has_alpha, is_photo
from zembrel.raster.relief import light
from zembrel.raster.views.bands import Relabelled, select_bands
from zembrel.raster.views.opacity import top_of
from zembrel.raster.views.palette import expand_palette
from zembrel.raster.views.reproject import on_frame

Picture = npt.NDArray[Any]
PIXELS = 1100  # along the longer side of the raster's part of the picture
NOTHING = "#eceae4"  # behind invalid cells
INK = "#2b2b2b"
UNITS = ("mi", "ft", "yd", "nmi")  # of a second scale bar


@dataclass(frozen=True)
class Look:
    """How a raster is shown.

    ramp: a name of `ramps`; limits: values at its ends; legend: instead of the layer's own; shade: by
    relief; width, height: pixels.
    """

    ramp: str | None = None
    legend: Legend | None = None
    limits: tuple[float, float] | None = None
    shade: bool = False
    title: str | None = None
    amount: str | None = None  # what there is of it, if not cells
    width: int = 1280
    height: int = 800
    units: str | None = None  # of a second scale bar: mi, ft, nmi, yd


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
    axes = figure.add_axes((0.075, 0.08, 0.76, 0.84))
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
    if look.legend is not None:
        view = Relabelled(view, (_coded(view.bands[0], look.legend), *view.bands[1:]))
    bands = view.bands
    picked = (0, 1, 2) if is_photo(bands) else (0,)
    shown = select_bands(view, (*picked, len(bands) - 1) if has_alpha(bands) and is_photo(bands) else picked)
    small = _small(expand_palette(shown), limits)
    figure = Figure(figsize=(look.width / 100, look.height / 100), dpi=100, facecolor="white")
    beside = not is_photo(bands)  # a ramp or legend stands there
    axes = figure.add_axes((0.075, 0.08, 0.76 if beside else 0.895, 0.84))
    chose = _paint(axes, small, bands[0], look, small.frame)
    chose += _add_shapes(axes, layers, over=True) if layers else ()
    amount = look.amount or f"{view.frame.columns:,} x {view.frame.rows:,} cells"
    furnish(axes, view.frame, title, amount, look.units)
    figure.savefig(path, format=path.suffix.lstrip(".").replace("jpg", "jpeg"))
    return chose


def _coded(band: Band, legend: Legend) -> Band:
    """`band` with `legend`. Raises UsageError unless it holds whole numbers."""
    if band.dtype.kind not in "iu":
        raise UsageError(
            f"a legend for {band.type} cells",
            "classes are whole numbers",
            "use --ramp, or convert --round first",
        )
    return replace(band, legend=legend)


@dataclass(frozen=True)
class _Small:
    frame: Frame
    bands: tuple[Band, ...]
    cells: Picture  # (rows, columns, bands)
    valid: Picture | None


def _small(view: Raster, limits: Limits) -> _Small:
    """`view` reduced to the picture's size, through the engine like everything else."""
    step = max(view.frame.columns, view.frame.rows) / PIXELS
    frame = view.frame
    if step > 1:
        columns, rows = max(1, round(frame.columns / step)), max(1, round(frame.rows / step))
        a = frame.corners
        across, down = frame.columns / columns, frame.rows / rows
        affine = Affine(a.x0, a.y0, a.x_col * across, a.y_row * down, a.x_row * down, a.y_col * across)
        frame = Frame(frame.crs, affine, columns, rows)
        coded = view.bands[0].legend is not None
        source = view.coarser(step) if isinstance(view, HasOverviews) else view
        view = on_frame(source, frame, "mode" if coded else "mean")
    kept: dict[str, Any] = {}
    run(
        view,
        whole_sink(view.frame, view.bands, lambda cells, valid: kept.update(cells=cells, valid=valid)),
        limits,
    )
    return _Small(frame, view.bands, kept["cells"], kept["valid"])


def _paint(axes: Any, small: _Small, band: Band, look: Look, frame: Frame) -> tuple[str, ...]:
    west, south, east, north = frame.bounds
    extent = (west, east, south, north)
    axes.set_facecolor(NOTHING)
    if small.cells.shape[2] >= 3:
        opaque = np.full(small.cells.shape[:2], 255) if small.valid is None else np.where(small.valid, 255, 0)
        if has_alpha(small.bands):
            opaque = opaque * (small.cells[:, :, 3] / top_of(small.cells.dtype))
        scaled = _to_bytes(small.cells[:, :, :3])
        axes.imshow(np.dstack([scaled, opaque.astype(np.uint8)]), extent=extent, interpolation="nearest")
        if band.legend is not None and band.legend.named:
            class_legend(axes, band)
            return ("legend colours",)
        return ("colours as they are",)
    values = np.ma.masked_array(
        small.cells[:, :, 0].astype(float), False if small.valid is None else ~small.valid
    )
    low, high = look.limits or (float(values.min()), float(values.max()))
    ramp = look.ramp or default_ramp(band)
    if look.shade:
        axes.imshow(_shaded(values, low, high, ramp, frame), extent=extent, interpolation="nearest")
    else:
        axes.imshow(
            values, extent=extent, cmap=colour_map(ramp), vmin=low, vmax=high, interpolation="nearest"
        )
    ramp_bar(axes, (low, high), ramp, band)
    shaded = ("shaded from the north-west",) if look.shade else ()
    return (f"ramp {ramp}", f"from {low:.6g} to {high:.6g}", *shaded)


def _to_bytes(cells: Picture) -> Picture:
    if cells.dtype == np.uint8:
        return cells
    low, high = float(cells.min()), float(cells.max())
    return ((cells - low) * (255 / max(high - low, 1e-9))).astype(np.uint8)


def _shaded(values: Any, low: float, high: float, ramp: str, frame: Frame) -> Picture:
    """Ramp colours darkened and lightened by the slope towards a sun in the north-west."""
    per_x, per_y = ground(frame)
    valid = ~np.ma.getmaskarray(values)
    bright = light(values.filled(low), valid, (frame.cell[0] * per_x, frame.cell[1] * per_y))
    colours: Picture = colour_map(ramp)(np.clip((values.filled(low) - low) / max(high - low, 1e-12), 0, 1))
    colours[..., :3] *= bright[..., None]
    colours[..., 3] = valid
    return np.clip(colours, 0, 1)
