"""index: the extents of many files as features."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from zembrel import features, results
from zembrel.errors import InputError
from zembrel.geodesy.crs import label, metres_per_unit
from zembrel.geodesy.registry import by_code
from zembrel.inputs.intake import Given
from zembrel.inputs.layers import Layer, check_placed, open_layers
from zembrel.inputs.options import Inputs, Output, Where
from zembrel.raster.model import shared_type
from zembrel.results.dispatch import by_kind
from zembrel.results.phrases import show_cell
from zembrel.results.receipt import Receipt

if TYPE_CHECKING:
    from zembrel.features.table import FeatureTable


def index(inputs: Inputs, output: Output) -> Receipt:
    """One polygon for each input, in longitude and latitude, with what the file is.

    Raises InputError for an input without a CRS, UsageError for a name that is no feature file's.
    """

    results.tables.check_target(output.path, output)
    return by_kind("index", inputs, Where(), output)


def of_rasters(given: Given, where: Where, output: Output, options: None) -> Receipt:
    """One polygon for each raster."""
    layers = open_layers(given)
    check_placed(layers)
    return written([layer.path for layer in layers], _outlines(layers), output)


def written(paths: Sequence[Path], table: FeatureTable, output: Output) -> Receipt:
    """The receipt over outlines that were written."""

    written = results.tables.write_layer(output.path, table, output)
    return Receipt(
        "index",
        tuple(paths),
        output.out,
        planned=output.dry_run,
        results=(replace(written.result, what="outlines", how=("EPSG:4326 WGS 84",)),),
        own={"features": len(paths)},
    )


def _outlines(layers: Sequence[Layer]) -> features.table.FeatureTable:

    degrees = by_code(4326)
    shapes = [in_degrees(_outline(layer), _close(layer)) for layer in layers]
    return features.table.FeatureTable.of(shapes, [_facts(layer) for layer in layers], degrees)


def in_degrees(outline: features.table.FeatureTable, close: float) -> Any:
    """An outline in longitude and latitude, so many metres close, in parts between 180 W and 180 E."""
    degrees = by_code(4326)
    return features.antimeridian.fold_to_world(outline.to(degrees, close).geometries[0], degrees)


def _close(layer: Layer) -> float:
    """Metres of half a cell: an outline says no more than its cells do."""
    frame = layer.raster.frame
    return min(frame.cell) / 2 * max(metres_per_unit(frame.crs, frame.bounds[1]))


def _outline(layer: Layer) -> features.table.FeatureTable:
    import shapely

    frame = layer.raster.frame
    if frame.crs is None:
        raise InputError(
            f"{layer.path} has no coordinate reference system",
            "its outline has no place",
            "add --from-crs CRS",
        )
    cols = np.array([0.0, 1.0, 1.0, 0.0]) * frame.columns
    rows = np.array([0.0, 0.0, 1.0, 1.0]) * frame.rows
    return features.table.FeatureTable.of(
        [shapely.Polygon(np.column_stack(frame.corners.at(cols, rows)))], [{}], frame.crs
    )


def _facts(layer: Layer) -> dict[str, Any]:
    raster = layer.raster
    return {
        "path": str(layer.path),
        "crs": label(raster.frame.crs),
        "cell": show_cell(raster.frame),
        "columns": raster.frame.columns,
        "rows": raster.frame.rows,
        "bands": len(raster.bands),
        "type": shared_type(raster.bands).name,
    }
