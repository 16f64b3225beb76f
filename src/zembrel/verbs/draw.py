"""draw: a picture of a raster, of features, or of features over a raster."""

from __future__ import annotations

import os
import shutil
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from zembrel.draw.colouring import Look
from zembrel.draw.picture import ShapeLayer, View, draw_map, draw_picture
from zembrel.draw.ramps import check_ramp
from zembrel.draw.shapes import ShapeLook
from zembrel.draw.terminal import in_terminal
from zembrel.engine.commit import Staging, resource_errors
from zembrel.errors import EmptyInputError, InputError, UsageError, nearest_name
from zembrel.facts import Fact, distinct, fact
from zembrel.formats.origin import Origin
from zembrel.geodesy.crs import CRS, UnresolvedCRS
from zembrel.grid.frame import Affine, Frame
from zembrel.handles import size_on_disk
from zembrel.inputs.intake import Given, identified, of_one_kind
from zembrel.inputs.layers import Layer, given_layers, open_layer
from zembrel.inputs.options import Inputs, Output, Where
from zembrel.inputs.tables import open_table
from zembrel.inputs.target import Target, brought, decide
from zembrel.inputs.within import asked_crs, resolve
from zembrel.pictures import cloudpictures as of_points
from zembrel.pictures.cloudpictures import PointLook
from zembrel.pictures.drawing import USUAL, Drawing
from zembrel.pictures.mapextras import MapExtras, extras_of
from zembrel.raster.model import COLOURS, Raster, is_photo
from zembrel.raster.views.bands import Relabelled
from zembrel.raster.views.place import crop
from zembrel.raster.views.unscaled import unscaled
from zembrel.results.endings import PICTURES, check_ending
from zembrel.results.receipt import Receipt, Result
from zembrel.verbtable.record import FEATURES, POINTS, RASTERS

MOST_PANELS = 12
_MARGIN = 0.03  # of the extent of features, around them
_ACROSS = 1000  # cells that the ground of features counts as


def draw(inputs: Inputs, where: Where, output: Output, drawing: Drawing = USUAL) -> Receipt:
    """Rasters side by side, each with its ramp or legend; or features, or these over one raster; or points; a
    scale bar, north, CRS and extent.

    Raises UsageError for inputs that make no picture together, or an ending that is no picture's.
    """
    look, shapes, points, extras = drawing.look, drawing.shapes, drawing.points, drawing.extras
    check_ramp(look.ramp)
    if drawing.of_points:
        inputs = replace(inputs, classes=drawing.classes)
    found = identified(inputs, output, (RASTERS, FEATURES, POINTS))
    pointed = any(dataset.kind == POINTS for dataset in found)
    _check_extras(extras, output, pointed)
    if pointed:
        return of_points.draw(of_one_kind(found, inputs), where, output, look, points)
    features = [dataset.origin for dataset in found if dataset.kind == FEATURES]
    rasters = [dataset.origin for dataset in found if dataset.kind == RASTERS]
    held = Given(RASTERS, (), inputs).paths
    paths = [*held, *(dataset.origin.name for dataset in found)]
    _check([*held, *(origin.name for origin in rasters)], features, where, extras)
    _check_looks(paths, features, shapes, points)
    tables = [(origin.name.stem, open_table(origin, replace(inputs, layer=None))) for origin in features]
    views, chose = _views(rasters, inputs, where, extras)
    if extras.terminal:
        return _in_terminal(views[0], paths, look, output)
    frame = views[0].raster.frame if views else None
    crs = _known(frame.crs) if frame else asked_crs(where) or next((t.crs for _, t in tables if t.crs), None)
    layers = layers_with([(name, table.to(crs)) for name, table in tables], shapes)
    title = look.title if look.title is not None else _title(features, [*held, *(o.name for o in rasters)])
    ground = frame or _ground(layers, crs, where)
    view = views[0].raster if views else None
    look = replace(look, extras=extras_of(extras, ground, view, where))
    with Staging(output.replace) as staging:
        staged = staging.path_for(output.path)
        with resource_errors(output.path):
            if views:
                shown = draw_picture(views, staged, look, title, output.limits, layers=layers)
            else:
                shown = draw_map(ground, layers, staged, look, title)
        staging.publish()
    counts = (fact("features", features=sum(len(layer.table) for layer in layers)),) if layers else ()
    result = Result(output.path, size_on_disk(output.path), seconds=output.seconds)
    said = distinct((*chose, *shown, *counts))
    return Receipt("draw", tuple(paths), output.out, frame=frame, chose=said, results=(result,))


def _title(features: Sequence[Origin], rasters: Sequence[Path]) -> str:
    """The names of what is drawn, what lies on top first."""
    above = [origin.name.stem for origin in reversed(features)]
    return " over ".join([*above, *(path.stem for path in rasters)])


def _check_extras(extras: MapExtras, output: Output, pointed: bool) -> None:
    """Raise UsageError for an ending that is no picture's, two places to show it, or extras with points."""
    if not extras.terminal:
        check_ending(output.path, PICTURES)
    elif output.out:
        raise UsageError("--terminal excludes --out", "the picture is shown there", "leave one out")
    if pointed and extras != MapExtras():
        raise UsageError(
            "--grid, --contours, insets and the like are for maps",
            "points are drawn without",
            "leave them out",
        )


def _check_looks(
    paths: Sequence[Path], features: Sequence[Origin], shapes: ShapeLook, points: PointLook | None
) -> None:
    """Raise UsageError for looks of what is not there."""
    if points not in (None, PointLook()):
        raise UsageError("--by, --section and --width are for points", "there are none", "leave them out")
    if not features and shapes != ShapeLook(ramp=shapes.ramp, legend=shapes.legend):
        raise UsageError(
            "--field and --classes are for features", f"{paths[0]} is a raster", "use --ramp or --legend"
        )


def _check(rasters: Sequence[Path], features: Sequence[Origin], where: Where, extras: MapExtras) -> None:
    if len(rasters) > MOST_PANELS:
        raise UsageError(
            f"{len(rasters)} rasters for one picture",
            f"{MOST_PANELS} can be seen side by side",
            "mosaic them first",
        )
    if len(rasters) > 1 and features:
        raise UsageError("features over several rasters", "they are drawn over one", "name one raster")
    if rasters and where.crs:
        raise UsageError(
            f"{rasters[0]} is drawn in its own CRS", "--crs is for features alone", "reproject it first"
        )
    if extras.of_rasters and not rasters:
        raise UsageError("contours, insets and halves are of rasters", "there is none", "leave them out")
    if extras.halves and len(rasters) != 2:
        raise UsageError(f"halves of {len(rasters)} rasters", "there are a left and a right one", "name two")
    if len(rasters) > 1 and (extras.inset or extras.detail or extras.terminal):
        raise UsageError(
            f"insets and the terminal show one raster, not {len(rasters)}", "which is open", "name one"
        )


def _views(
    rasters: Sequence[Origin], inputs: Inputs, where: Where, extras: MapExtras
) -> tuple[list[View], list[Fact]]:
    """The rasters, or what of them lies in the area; of halves the second on the cells of the first."""
    layers = [*given_layers(inputs), *(open_layer(origin, inputs) for origin in rasters)]
    views, said = [], list[Fact]()
    for layer in layers:
        view, chose = _as_colours(_view(layer, where), inputs)
        views.append(View(layer.path.stem, view))
        said += chose
    if not extras.halves:
        return views, said
    other, chose = brought(layers[1], Target(views[0].raster.frame), "auto")
    return [views[0], View(views[1].name, unscaled(other))], [*said, *chose]


def _as_colours(view: Raster, inputs: Inputs) -> tuple[Raster, list[Fact]]:
    """Three bands that are chosen are red, green and blue of the picture."""
    if not inputs.bands or len(view.bands) != len(COLOURS) or is_photo(view.bands):
        return view, []
    told = tuple(replace(band, colour=colour) for band, colour in zip(view.bands, COLOURS, strict=True))
    return Relabelled(view, told), [fact("as_colours", bands=tuple(band.name for band in view.bands))]


def _view(layer: Layer, where: Where) -> Raster:
    view = unscaled(layer.raster)
    if not where.within:
        return view
    frame = decide([layer], replace(where, crs=None)).frame
    pane = view.frame.pane_of(*frame.bounds).meet(view.frame.pane)
    assert pane is not None
    return crop(view, pane)


def _known(crs: CRS | None) -> CRS | None:
    """A CRS that features can be brought to."""
    return None if isinstance(crs, UnresolvedCRS) else crs


def _in_terminal(view: View, paths: Sequence[Path], look: Look, output: Output) -> Receipt:
    """The raster as text."""
    columns = shutil.get_terminal_size((100, 40)).columns
    text = in_terminal(view.raster, look, output.limits, columns, not os.environ.get("NO_COLOR"))
    return Receipt("draw", tuple(paths), frame=view.raster.frame, data=text, plain=False)


def layers_with(tables: Sequence[tuple[str, Any]], shapes: ShapeLook) -> list[ShapeLayer]:
    """Layers with how they are shown: by the field where they have it. Raises InputError if none has."""
    fields = {name for _, table in tables for name in table.columns}
    if shapes.field is not None and shapes.field not in fields:
        raise InputError(
            f"no feature has a field {shapes.field!r}",
            f"there are {', '.join(sorted(fields)) or 'none'}",
            nearest_name(shapes.field, sorted(fields)) if fields else "leave --field out",
        )
    return [
        ShapeLayer(name, table, shapes if shapes.field in table.columns else replace(shapes, field=None))
        for name, table in tables
    ]


def _ground(layers: Sequence[ShapeLayer], crs: CRS | None, where: Where) -> Frame:
    """The extent of all features and a little more, or the area."""
    if where.within:
        west, south, east, north = resolve(where, crs).bounds
    else:
        bounds = np.array([shapely.total_bounds(layer.table.geometries) for layer in layers])
        if not np.isfinite(bounds).any():
            raise EmptyInputError("there is no feature to draw", "the layers are empty", "check --where")
        west, south = (float(v) for v in np.nanmin(bounds[:, :2], axis=0))
        east, north = (float(v) for v in np.nanmax(bounds[:, 2:], axis=0))
    span = max(east - west, north - south) or 1.0
    pad = 0.0 if where.within else _MARGIN * span
    west, south, east, north = west - pad, south - pad, east + pad, north + pad
    cell = max(east - west, north - south) / _ACROSS
    columns, rows = max(1, round((east - west) / cell)), max(1, round((north - south) / cell))
    return Frame(crs, Affine(west, north, (east - west) / columns, -(north - south) / rows), columns, rows)
