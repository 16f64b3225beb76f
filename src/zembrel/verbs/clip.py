"""clip: keep an area."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from zembrel.errors import UsageError
from zembrel.raster.model import Raster
from zembrel.raster.views.outline import Blanked, Cover
from zembrel.raster.views.place import crop
from zembrel.verbs.each import one_to_one
from zembrel.verbs.inputs import Layer, open_layers
from zembrel.verbs.options import Inputs, Output, Where
from zembrel.verbs.receipt import Receipt
from zembrel.verbs.target import Target, brought, decide
from zembrel.verbs.write import Written, write


def clip(
    inputs: Inputs,
    where: Where,
    output: Output,
    *,
    touching: bool = False,
    outside: bool = False,
    method: str = "auto",
) -> Receipt:
    """Keep the area `where.within`, or what lies outside its outline, of each input.

    Native cells stay as they are unless `where` asks for a frame, CRS or cell size. Raises
    UsageError without an area, InputError where area and raster do not meet.
    """
    if not where.within and not where.onto:
        raise UsageError("there is no area to keep", "clip cuts to one", "add --within AREA, or --onto FRAME")
    if outside and not where.within:
        raise UsageError("--outside needs an area", "there is nothing to be outside of", "add --within AREA")
    layers = open_layers(inputs, output.path)

    def make(layer: Layer, final: Path) -> tuple[Written, list[str]]:
        view, cover, chose = _view(layer, where, method, touching, outside)
        return write(view, final, output, cover=None if outside else cover), chose

    return one_to_one("clip", layers, output, make)


def _view(
    layer: Layer, where: Where, method: str, touching: bool, outside: bool
) -> tuple[Raster, Cover | None, list[str]]:
    target = decide([layer], where)
    chose = list(target.chose)
    native = not (where.onto or where.crs or where.cell)
    if outside:
        whole = (
            layer.raster.frame if native else decide([layer], Where(where.onto, where.crs, where.cell)).frame
        )
        target = replace(target, frame=whole)
    if native and not outside:
        frame = layer.raster.frame
        pane = frame.pane_of(*target.frame.bounds).meet(frame.pane)
        assert pane is not None
        view: Raster = crop(layer.raster, pane)
        target = replace(target, frame=view.frame)
        chose.append("native cells")
    else:
        view, more = brought(layer, target, method)
        chose += more
    cover = target.cover(touching)
    if cover is None and outside and target.area is not None:
        cover = _rectangle(target)
    if cover is not None:
        chose.append("outline by touching cells" if touching else "outline by cell centre")
        view = Blanked(view, cover, outside)
    return view, cover, chose


def _rectangle(target: Target) -> Cover:
    import shapely

    from zembrel.features.cover import PolygonCover

    assert target.area is not None
    return PolygonCover(target.frame, shapely.box(*target.area.bounds))
