"""draw: a picture of a raster, of features, or of features over a raster."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from zembrel.draw.colouring import Look
from zembrel.draw.picture import ShapeLayer, draw_map, draw_picture
from zembrel.draw.shapes import ShapeLook
from zembrel.engine.commit import Staging, resource_errors
from zembrel.errors import InputError, UsageError, nearest_name
from zembrel.formats.origin import Origin
from zembrel.geodesy.crs import CRS, UnresolvedCRS
from zembrel.grid.frame import Affine, Frame
from zembrel.handles import size_on_disk
from zembrel.raster.model import Raster
from zembrel.raster.views.place import crop
from zembrel.raster.views.unscaled import unscaled
from zembrel.verbs.features.opening import open_table
from zembrel.verbs.intake import FEATURES, POINTS, RASTERS, identified, of_one_kind
from zembrel.verbs.layers import open_layer
from zembrel.verbs.options import Inputs, Output, Where
from zembrel.verbs.points import draw as of_points
from zembrel.verbs.points.draw import PointLook
from zembrel.verbs.receipt import Receipt, Result
from zembrel.verbs.target import decide
from zembrel.verbs.within import asked_crs, resolve

ENDINGS = (".png", ".pdf", ".svg", ".jpg")
_MARGIN = 0.03  # of the extent of features, around them
_ACROSS = 1000  # cells that the ground of features counts as


def draw(
    inputs: Inputs,
    where: Where,
    output: Output,
    *,
    look: Look,
    shapes: ShapeLook,
    points: PointLook | None = None,
) -> Receipt:
    """One raster with its ramp or legend, or features, or these over that; or points; a scale bar, CRS and
    extent.

    Raises UsageError for several rasters or an ending that is no picture's.
    """
    found = identified(inputs, output, (RASTERS, FEATURES, POINTS))
    if any(dataset.kind == POINTS for dataset in found):
        _check([], output.path, where)
        return of_points.draw(of_one_kind(found, inputs), where, output, look, points or PointLook())
    if points not in (None, PointLook()):
        raise UsageError("--by, --section and --width are for points", "there are none", "leave them out")
    features = [dataset.origin for dataset in found if dataset.kind == FEATURES]
    rasters = [dataset.origin for dataset in found if dataset.kind == RASTERS]
    paths = [dataset.origin.name for dataset in found]
    _check(rasters, output.path, where)
    plain = ShapeLook(ramp=shapes.ramp, legend=shapes.legend)
    if not features and shapes != plain:
        raise UsageError(
            "--field and --classes are for features", f"{paths[0]} is a raster", "use --ramp or --legend"
        )
    tables = [(origin.name.stem, open_table(origin, replace(inputs, layer=None))) for origin in features]
    view, crs = (None, None) if not rasters else _view(rasters[0], inputs, where)
    if view is None:
        crs = asked_crs(where) or next((t.crs for _, t in tables if t.crs), None)
    layers = _layers([(name, table.to(crs)) for name, table in tables], shapes)
    frame = view.frame if view is not None else _ground(layers, crs, where)
    names = [*reversed([origin.name.stem for origin in features]), *(o.name.stem for o in rasters)]
    title = " over ".join(names) if look.title is None else look.title
    with Staging(output.replace) as staging:
        staged = staging.path_for(output.path)
        with resource_errors(output.path):
            if view is not None:
                shown = draw_picture(view, staged, look, title, output.limits, layers=layers)
            else:
                shown = draw_map(frame, layers, staged, look, title)
        staging.publish()
    counts = (f"{sum(len(layer.table) for layer in layers):,} features",) if layers else ()
    return Receipt(
        "draw",
        tuple(paths),
        output.out,
        frame=frame if view is not None else None,
        chose=(*shown, *counts),
        results=(Result(output.path, size_on_disk(output.path), seconds=output.seconds),),
    )


def _check(rasters: Sequence[Origin], out: Path, where: Where) -> None:
    if len(rasters) > 1:
        raise UsageError(
            f"{len(rasters)} inputs for one picture", "draw shows one layer", "mosaic them first, or name one"
        )
    if rasters and where.crs:
        raise UsageError(
            f"{rasters[0]} is drawn in its own CRS", "--crs is for features alone", "reproject it first"
        )
    if out.suffix.lower() not in ENDINGS:
        raise UsageError(
            f"{out.name} is no picture name",
            f"its ending is {out.suffix!r}",
            "end it in " + ", ".join(ENDINGS),
        )


def _view(origin: Origin, inputs: Inputs, where: Where) -> tuple[Raster, CRS | None]:
    """The raster, or what of it lies in the area, and its CRS if features can be brought to it."""
    layer = open_layer(origin, inputs)
    view = unscaled(layer.raster)
    if where.within:
        frame = decide([layer], replace(where, crs=None)).frame
        pane = view.frame.pane_of(*frame.bounds).meet(view.frame.pane)
        assert pane is not None
        view = crop(view, pane)
    crs = view.frame.crs
    return view, None if isinstance(crs, UnresolvedCRS) else crs


def _layers(tables: Sequence[tuple[str, Any]], shapes: ShapeLook) -> list[ShapeLayer]:
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
            raise InputError("there is no feature to draw", "the layers are empty", "check --where")
        west, south = (float(v) for v in np.nanmin(bounds[:, :2], axis=0))
        east, north = (float(v) for v in np.nanmax(bounds[:, 2:], axis=0))
    span = max(east - west, north - south) or 1.0
    pad = 0.0 if where.within else _MARGIN * span
    west, south, east, north = west - pad, south - pad, east + pad, north + pad
    cell = max(east - west, north - south) / _ACROSS
    columns, rows = max(1, round((east - west) / cell)), max(1, round((north - south) / cell))
    return Frame(crs, Affine(west, north, (east - west) / columns, -(north - south) / rows), columns, rows)
