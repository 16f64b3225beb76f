"""clip: keep an area."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from zembrel.errors import RefusedError, UsageError
from zembrel.raster.model import Raster, shared_type
from zembrel.raster.views.around import facing
from zembrel.raster.views.feather import Feathered
from zembrel.raster.views.outline import Blanked, Cover
from zembrel.raster.views.place import crop
from zembrel.verbs.collars import trimmed
from zembrel.verbs.each import one_to_one, opened
from zembrel.verbs.features.opening import feature_paths
from zembrel.verbs.inputs import Layer
from zembrel.verbs.lengths import in_cells
from zembrel.verbs.options import Inputs, Output, Where
from zembrel.verbs.points.opening import point_paths
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
    feather: str | None = None,
    method: str = "auto",
    keep_bounds: bool = False,
) -> Receipt:
    """Keep the area `where.within`, or what lies outside its outline, of each input.

    Native cells stay as they are unless `where` asks for a frame, CRS or cell size. feather: cells or a
    length over which an alpha band fades in from the outline. Raises UsageError without an area, InputError
    where area and raster do not meet.
    """
    if not where.within and not where.onto:
        raise UsageError("there is no area to keep", "clip cuts to one", "add --within AREA, or --onto FRAME")
    if outside and not where.within:
        raise UsageError("--outside needs an area", "there is nothing to be outside of", "add --within AREA")
    points = point_paths(inputs, output.path)
    if points:
        from zembrel.verbs.points import change as of_points

        return of_points.clip(points, inputs, where, output, outside=outside, keep_bounds=keep_bounds)
    features = feature_paths(inputs, output.path)
    if features:
        from zembrel.verbs.features import change

        return change.clip(features, inputs, where, output, touching=touching, outside=outside)
    layers, unopened = opened(inputs, output)
    layers, collars, found = trimmed(layers, inputs, output)

    def make(layer: Layer, final: Path) -> tuple[Written, list[str]]:
        view, cover, chose = _view(layer, where, method, touching, outside)
        if feather:
            view = _faded(view, feather, layer)
            chose.append(f"alpha fades in over {feather}")
        written = write(view, final, output, cover=None if outside else cover)
        return replace(written, checks=(*written.checks, *found)), [*chose, *collars]

    return one_to_one("clip", layers, output, make, unopened)


def _view(
    layer: Layer, where: Where, method: str, touching: bool, outside: bool
) -> tuple[Raster, Cover | None, list[str]]:
    target = decide([layer], where)
    chose = list(target.chose)
    native = not (where.onto or where.crs or where.cell or where.longest)
    if outside:
        whole = (
            layer.raster.frame if native else decide([layer], Where(where.onto, where.crs, where.cell)).frame
        )
        target = replace(target, frame=whole)
    if native and not outside:
        whole_turn = facing(layer.raster, target.frame)
        frame = whole_turn.frame
        pane = frame.pane_of(*target.frame.bounds).meet(frame.pane)
        assert pane is not None
        view: Raster = crop(whole_turn, pane)
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

    from zembrel.features.cover import PolygonCover

    assert target.area is not None
    return PolygonCover(target.frame, shapely.box(*target.area.bounds))
