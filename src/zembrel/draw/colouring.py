"""Cells as colours: as they are, by the classes of a legend, or by a ramp, shaded if asked."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any, NamedTuple

import numpy as np
from PIL import Image

from zembrel.draw.ramps import colour_map, default_ramp
from zembrel.draw.reduced import Picture, Reduced, reduced
from zembrel.engine.limits import Limits
from zembrel.errors import UsageError
from zembrel.facts import Fact, fact
from zembrel.grid.extent import ground
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.legend import Legend
from zembrel.raster.model import Band, Raster, has_alpha, is_photo
from zembrel.raster.relief import light
from zembrel.raster.views.bands import Relabelled, select_bands
from zembrel.raster.views.opacity import top_of
from zembrel.raster.views.palette import expand_palette


class Inset(NamedTuple):
    """A part of the ground that is shown larger: the cells of the view, and its name."""

    pane: Pane
    name: str
    exact: bool = False  # whether a cell is a pixel


@dataclass(frozen=True)
class Extras:
    """What else stands on a map.

    grid: units of the CRS (or degrees, of a graticule) between lines; contours: values between lines;
    insets: parts that are shown larger, a number of picture's pixels for each cell (None: what fits).
    """

    grid: float | None = None
    graticule: float | None = None
    contours: float | None = None
    insets: tuple[Inset, ...] = ()
    attribution: str | None = None
    halves: bool = False


_MOST = 2, 98  # per cent of the cells that colours of more than 8 bits are spread over


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
    extras: Extras = Extras()


class ColourKey(NamedTuple):
    """What colours mean: the band, and of values the ramp and those at its ends."""

    band: Band
    ramp: str = ""
    limits: tuple[float, float] = (0.0, 0.0)


class ColouredCells(NamedTuple):
    """Bytes of red, green, blue and opacity, (rows, columns, 4), the ground they show, what they mean if they
    mean something, and what was chosen."""

    image: Picture
    frame: Frame
    key: ColourKey | None
    chose: tuple[Fact, ...]


def shown_bands(view: Raster, look: Look) -> tuple[Raster, tuple[Fact, ...]]:
    """The bands of `view` that are seen, with the legend that is asked for, and which are not.

    Raises UsageError for a legend of values that are no codes.
    """
    if look.legend is not None:
        view = Relabelled(view, (_coded(view.bands[0], look.legend), *view.bands[1:]))
    bands = view.bands
    picked = (0, 1, 2) if is_photo(bands) else (0,)
    if has_alpha(bands) and is_photo(bands):
        picked = (*picked, len(bands) - 1)
    others = tuple(band.name for n, band in enumerate(bands) if n not in picked)
    return select_bands(view, picked), ((fact("bands_left_out", bands=others),) if others else ())


def painted(view: Raster, look: Look, limits: Limits, pixels: int) -> ColouredCells:
    """`view` in colours, at most so many pixels along a side."""
    shown, others = shown_bands(view, look)
    made = coloured_cells(reduced(expand_palette(shown), limits, pixels), shown.bands[0], look)
    return made._replace(
        chose=(*made.chose, *others),
        image=_shrunk(made.image, pixels, made.key is not None and not made.key.ramp),
    )


def _shrunk(image: Picture, pixels: int, classes: bool) -> Picture:
    """A picture of at most so many pixels along a side: means, or of classes what lies in the middle."""
    rows, columns = image.shape[:2]
    step = max(rows, columns) / pixels
    if step <= 1:
        return image
    size = max(1, round(columns / step)), max(1, round(rows / step))
    way = Image.Resampling.NEAREST if classes else Image.Resampling.BOX
    return np.asarray(Image.fromarray(np.ascontiguousarray(image)).resize(size, way))


@np.errstate(all="ignore")  # infinite values are drawn as the ends of the ramp
def coloured_cells(small: Reduced, band: Band, look: Look) -> ColouredCells:
    """Cells in colours; band: what they were before a palette was expanded."""
    if small.cells.shape[2] >= 3:
        opaque = np.full(small.cells.shape[:2], 255) if small.valid is None else np.where(small.valid, 255, 0)
        if has_alpha(small.bands):
            opaque = opaque * (small.cells[:, :, 3] / top_of(small.cells.dtype))
        colours, spread = _to_bytes(small, look.limits)
        photo = np.dstack([colours, opaque.astype(np.uint8)])
        if band.legend is not None and band.legend.named:
            return ColouredCells(photo, small.frame, ColourKey(band), (fact("legend_colours"),))
        return ColouredCells(photo, small.frame, None, (spread,))
    values = np.ma.masked_array(
        small.cells[:, :, 0].astype(float), False if small.valid is None else ~small.valid
    )
    known = values.compressed()
    known = known[np.isfinite(known)]
    low, high = look.limits or ((float(known.min()), float(known.max())) if known.size else (0.0, 1.0))
    ramp = look.ramp or default_ramp(band)
    held, valid = values.filled(low), ~np.ma.getmaskarray(values)
    image: Any = colour_map(ramp)(np.clip((held - low) / max(high - low, 1e-300), 0, 1), bytes=True)
    if look.shade:
        per_x, per_y = ground(small.frame)
        cell = small.frame.cell[0] * per_x, small.frame.cell[1] * per_y
        bright = light(held, valid, cell).astype(np.float32)[..., None]
        image[..., :3] = np.clip(np.rint(image[..., :3] * bright), 0, 255)
    image[..., 3] = np.where(valid, 255, 0)
    shaded = (fact("shaded_from_north_west"),) if look.shade else ()
    chose = (fact("ramp", ramp=ramp), fact("value_range", low=low, high=high), *shaded)
    return ColouredCells(image, small.frame, ColourKey(band, ramp, (low, high)), chose)


def _coded(band: Band, legend: Legend) -> Band:
    """`band` with `legend`. Raises UsageError unless it holds whole numbers."""
    if band.dtype.kind not in "iu":
        raise UsageError(
            f"a legend for {band.type} cells",
            "classes are whole numbers",
            "use --ramp, or convert --round first",
        )
    return replace(band, legend=legend)


def _to_bytes(small: Reduced, ends: tuple[float, float] | None) -> tuple[Picture, Fact]:
    """Colours as bytes: bytes as they are, others spread between `ends`, or what most of them lie between."""
    colours = small.cells[:, :, :3]
    if colours.dtype == np.uint8 and ends is None:
        return colours, fact("colours_kept")
    exact = colours.astype(np.float64)
    known = exact if small.valid is None else exact[small.valid]
    known = known[np.isfinite(known)]
    low, high = ends or (np.percentile(known, _MOST).tolist() if known.size else (0.0, 1.0))
    shown = np.nan_to_num((exact - low) * (255 / max(high - low, 1e-300)), nan=0.0)
    return np.clip(shown, 0, 255).astype(np.uint8), fact("colours_between", low=low, high=high)
