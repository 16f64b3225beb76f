"""polygonize: regions of equal cells as polygons."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
import shapely

from zembrel.errors import InputError, RefusedError, UsageError
from zembrel.features.ground import ground_areas
from zembrel.features.outlined import Shapes, shapes_of
from zembrel.features.table import FeatureTable
from zembrel.geodesy.crs import UnresolvedCRS
from zembrel.grid.pane import Pane
from zembrel.measure import show_bytes
from zembrel.raster.model import Raster
from zembrel.raster.regions import RegionSweep
from zembrel.raster.views.cast import cast
from zembrel.verbs.features.writing import check_target, write_layer
from zembrel.verbs.inputs import Layer, open_layers
from zembrel.verbs.options import Inputs, Output
from zembrel.verbs.receipt import Receipt, frame_items

_STRIP_CELLS = 2_000_000
_PIECE = 32.0  # cells of an edge at a time, for areas on the ground
_SAMPLE = 512  # cells a side of what is looked at to estimate regions


@dataclass(frozen=True)
class Outlining:
    """How cells become polygons.

    diagonal: whether cells that meet at a corner alone are of one region; dissolve: whether all regions of a
    value are one feature; rounded: whether floats may become whole numbers.
    """

    diagonal: bool = False
    dissolve: bool = False
    rounded: bool = False


def polygonize(inputs: Inputs, output: Output, outlining: Outlining) -> Receipt:
    """The regions of one band, each with its value, cells and ground area, and its name if it has one.

    Raises RefusedError for floats, with an estimate of the regions they would make; UsageError for a name
    that is no feature file's.
    """
    out = output.path
    check_target(out, output.replace)
    layers = open_layers(inputs, out)
    if len(layers) != 1:
        raise UsageError(
            f"polygonize takes one raster, not {len(layers)}", "each has its own values", "name one"
        )
    layer = layers[0]
    raster, chose = _whole_numbers(layer, outlining)
    crs = raster.frame.crs
    if crs is None or isinstance(crs, UnresolvedCRS):
        raise InputError(
            f"{layer.path} has no known CRS", "features have a place on the Earth", "add --from-crs CRS"
        )
    parts = [shapes_of(found, raster.frame) for found in _sweep(raster, outlining.diagonal)]
    shapes = Shapes(*(np.concatenate([part[n] for part in parts]) for n in range(3)))
    regions, cells = shapes.values.size, int(shapes.cells.sum())
    if not regions:
        raise InputError(f"{layer.path} has no valid cell", "there is no region", "check its nodata")
    shapes = _dissolved(shapes) if outlining.dissolve else shapes
    written = write_layer(out, FeatureTable.of(shapes.geometries, list(_facts(shapes, raster)), crs), output)
    way = "cells joined at corners" if outlining.diagonal else "cells joined at edges"
    said = [*layer.remarks, *chose, way, *(["dissolved by value"] if outlining.dissolve else [])]
    features = shapes.values.size
    lines = (
        ("frame", frame_items(raster.frame)),
        ("chose", tuple(said)),
        ("checks", (f"{cells:,} valid cells in {regions:,} regions",)),
        (
            "plan" if output.dry_run else "wrote",
            (str(out), f"{features:,} features", show_bytes(written.bytes)),
        ),
    )
    facts: dict[str, Any] = {"inputs": [str(layer.path)], "out": str(out), "regions": regions}
    facts |= {"features": features, "cells": cells, "chose": said}
    return Receipt("polygonize", f"{layer.path} -> {out}", lines, facts)


def _whole_numbers(layer: Layer, outlining: Outlining) -> tuple[Raster, list[str]]:
    raster = layer.raster
    if len(raster.bands) != 1:
        raise UsageError(
            f"{layer.path} has {len(raster.bands)} bands", "regions are of one", "choose it with --bands"
        )
    kind = raster.bands[0].dtype
    if kind.kind == "f":
        if not outlining.rounded:
            raise RefusedError(
                f"{layer.path} holds {kind.name} cells",
                f"about {_estimate(raster):,} regions would come of values that are nowhere quite equal",
                "add --round, or make classes of them first",
            )
        return cast(raster, "int32"), ["values rounded"]
    if kind == np.uint64:
        raise UsageError(f"{layer.path} holds uint64 cells", "codes go up to 2^63", "convert them to int64")
    return raster, []


def _estimate(raster: Raster) -> int:
    """Regions, from a part in the middle."""
    frame = raster.frame
    rows, columns = min(_SAMPLE, frame.rows), min(_SAMPLE, frame.columns)
    top, left = (frame.rows - rows) // 2, (frame.columns - columns) // 2
    block = raster.cells(Pane(top, left, top + rows, left + columns))
    known = block.valid_of(0)
    _, codes = np.unique(block.cells[0], return_inverse=True)
    sweep = RegionSweep(columns)
    found = sweep.strip(codes.reshape(known.shape), known), sweep.finish()
    return round(sum(part.values.size for part in found) * frame.size / (rows * columns))


def _sweep(raster: Raster, diagonal: bool) -> Iterator[Any]:
    """Complete regions, strip by strip."""
    frame = raster.frame
    sweep = RegionSweep(frame.columns, diagonal)
    for pane in frame.pane.blocks(max(1, _STRIP_CELLS // frame.columns), frame.columns):
        block = raster.cells(pane)
        yield sweep.strip(block.cells[0].astype(np.int64), block.valid_of(0))
    yield sweep.finish()


def _dissolved(shapes: Shapes) -> Shapes:
    """All regions of a value as one feature."""
    values, number = np.unique(shapes.values, return_inverse=True)
    cells = np.bincount(number, shapes.cells).astype(np.int64)
    joined = np.empty(values.size, object)
    for n in range(values.size):
        parts = shapely.get_parts(shapes.geometries[number == n])
        joined[n] = shapely.MultiPolygon(parts.tolist()) if len(parts) > 1 else parts[0]
    return Shapes(joined, values, cells)


def _facts(shapes: Shapes, raster: Raster) -> Iterator[dict[str, Any]]:
    frame, legend = raster.frame, raster.bands[0].legend
    areas = ground_areas(shapes.geometries, frame.crs, _PIECE * min(frame.cell))
    for value, cells, area in zip(shapes.values.tolist(), shapes.cells.tolist(), areas.tolist(), strict=True):
        named = {"name": legend.name(value)} if legend is not None and legend.named else {}
        yield {"value": value, "cells": cells, "area": round(area, 3), **named}
