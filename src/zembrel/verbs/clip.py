"""clip: keep an area."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated

from zembrel import features
from zembrel.errors import RefusedError, UsageError
from zembrel.facts import Fact, fact
from zembrel.inputs.collars import trimmed
from zembrel.inputs.intake import Given
from zembrel.inputs.layers import Layer
from zembrel.inputs.lengths import in_cells
from zembrel.inputs.methods import MethodName
from zembrel.inputs.options import Inputs, Output, Where
from zembrel.inputs.target import Target, brought, decide
from zembrel.optiontext import OptionText
from zembrel.raster.model import Raster, shared_type
from zembrel.raster.views.around import turns_of
from zembrel.raster.views.feather import Feathered
from zembrel.raster.views.outline import Blanked, Cover
from zembrel.raster.views.place import crop
from zembrel.results.dispatch import by_kind
from zembrel.results.each import one_to_one, opened
from zembrel.results.receipt import Receipt
from zembrel.results.write import Written, write


@dataclass(frozen=True)
class Clipping:
    """How an area is kept.

    touching: every cell, or the whole of every feature, that the outline meets; outside: what lies outside
    it; feather: cells or a length over which an alpha band fades in; keep_bounds: of packed points, keep the
    bounds of chunks beside the input.
    """

    touching: Annotated[bool, OptionText("Keep every cell or feature that the outline touches.")] = False
    outside: Annotated[bool, OptionText("Keep everything outside the area instead.")] = False
    feather: Annotated[
        str | None,
        OptionText("Fade out along the outline over this width, with an alpha band.", "CELLS|LENGTH"),
    ] = None
    method: MethodName = "auto"
    keep_bounds: Annotated[
        bool, OptionText("For LAZ: store the bounds of chunks beside the input to speed up the next clip.")
    ] = False


def clip(inputs: Inputs, where: Where, output: Output, clipping: Clipping = Clipping()) -> Receipt:
    """Keep the area `where.within`, or what lies outside its outline, of each input.

    Native cells stay as they are unless `where` asks for a frame, CRS or cell size. Raises UsageError without
    an area, InputError where area and input do not meet.
    """
    if not where.within and not where.onto:
        raise UsageError("there is no area to keep", "clip cuts to one", "add --within AREA, or --onto FRAME")
    if clipping.outside and not where.within:
        raise UsageError("--outside needs an area", "there is nothing to be outside of", "add --within AREA")
    return by_kind("clip", inputs, where, output, clipping)


def of_rasters(given: Given, where: Where, output: Output, clipping: Clipping) -> Receipt:
    """Keep the area of each raster."""
    layers, unopened = opened(given, output)
    layers, collars, found = trimmed(layers, given.options, output)

    def make(layer: Layer, final: Path) -> tuple[Written, list[Fact]]:
        view, cover, chose = _view(layer, where, clipping)
        if clipping.feather:
            view = _faded(view, clipping.feather, layer)
            chose.append(fact("alpha_fades", over=clipping.feather))
        written = write(view, final, output, cover=None if clipping.outside else cover)
        return replace(written, checks=(*written.checks, *found)), [*chose, *collars]

    return one_to_one("clip", layers, output, make, unopened)


def _view(layer: Layer, where: Where, clipping: Clipping) -> tuple[Raster, Cover | None, list[Fact]]:
    touching, outside = clipping.touching, clipping.outside
    target = decide([layer], where)
    chose = list(target.chose)
    native = not (where.onto or where.crs or where.cell or where.longest)
    if outside:
        whole = (
            layer.raster.frame if native else decide([layer], Where(where.onto, where.crs, where.cell)).frame
        )
        target = replace(target, frame=whole)
    turns = turns_of(layer.raster, target.frame)
    if native and not outside and len(turns) == 1:
        whole_turn, frame = turns[0], turns[0].frame
        pane = frame.pane_of(*target.frame.bounds).meet(frame.pane)
        assert pane is not None
        view: Raster = crop(whole_turn, pane)
        target = replace(target, frame=view.frame)
        chose.append(fact("native_cells"))
    else:
        view, more = brought(layer, target, clipping.method)
        chose += more
    cover = target.cover(touching)
    if cover is None and outside and target.area is not None:
        cover = _rectangle(target)
    if cover is not None:
        chose.append(fact("outline", by="touching cells") if touching else fact("outline", by="cell centre"))
        view = Blanked(view, cover, outside)
    return view, cover, chose


def _faded(view: Raster, feather: str, layer: Layer) -> Raster:
    """`view` with a fading edge. Raises UsageError where no outline is, RefusedError for other cells."""
    if not isinstance(view, Blanked) or view.outside:
        raise UsageError(
            "--feather needs an outline", "a rectangle is cut sharply", "give polygons or a circle"
        )
    kind = shared_type(view.bands)
    if kind.kind != "u" or kind.itemsize > 2 or any(band.categorical for band in view.bands):
        raise RefusedError(
            f"{layer.path} cannot fade",
            f"{kind.name} cells are no colours to be seen through",
            "leave --feather out, or paint it first",
        )
    width = max(in_cells(feather, view.frame))
    if not 1 <= width <= 4096:
        raise UsageError(f"--feather {feather} is {width:.3g} cells", "1 to 4,096 are", "give another width")
    return Feathered(view.source, view.cover, width)


def _rectangle(target: Target) -> Cover:
    import shapely

    assert target.area is not None
    return features.cover.PolygonCover(target.frame, shapely.box(*target.area.bounds))
