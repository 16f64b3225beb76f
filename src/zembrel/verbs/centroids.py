"""centroids: cells as points."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from functools import partial

import numpy as np
import shapely

from zembrel.engine.limits import Limits
from zembrel.engine.run import over_panes
from zembrel.errors import EmptyInputError, UsageError
from zembrel.facts import distinct, remarks
from zembrel.features.columns import INTEGER, REAL, TEXT, Column, column
from zembrel.features.files.schema import Field, Schema
from zembrel.features.table import FeatureTable
from zembrel.grid.pane import Pane
from zembrel.inputs.layers import check_resolved, take_layers
from zembrel.inputs.options import Inputs, Output
from zembrel.raster.model import Raster
from zembrel.raster.views.unscaled import unscaled
from zembrel.results.receipt import Receipt
from zembrel.results.tables import check_target, write_parts

_STRIP_CELLS = 250_000


def centroids(inputs: Inputs, output: Output) -> Receipt:
    """A point in the middle of each cell that is valid in some band, with a field for each band.

    Raises UsageError for several rasters.
    """
    out = output.path
    check_target(out, output)
    layers = take_layers(inputs, output)
    if len(layers) != 1:
        raise UsageError(
            f"centroids takes one raster, not {len(layers)}",
            "cells lie in one frame",
            "name one, or stack them",
        )
    layer = layers[0]
    raster = unscaled(layer.raster)
    crs = check_resolved(layer)
    kinds = {band.name: Field(INTEGER if band.dtype.kind in "iu" else REAL, 0) for band in raster.bands}
    for band in raster.bands:
        if band.legend is not None and band.legend.named:
            width = max(len(entry.name.encode()) for entry in band.legend.entries)
            kinds[f"{band.name}_name"] = Field(TEXT, max(width, 1))
    written = write_parts(
        out, _tables(raster, output.limits), Schema(out.stem, "Point", False, kinds, crs), output
    )
    if not written.features:
        raise EmptyInputError(f"{layer.path} has no valid cell", "there is no point", "check its nodata")
    return Receipt(
        "centroids",
        (layer.path,),
        output.out,
        planned=output.dry_run,
        frame=raster.frame,
        chose=distinct((*remarks(layer.remarks), *written.notes)),
        results=(replace(written.result, what="points"),),
        own={"features": written.features},
    )


def _tables(raster: Raster, limits: Limits) -> Iterator[FeatureTable]:
    frame = raster.frame
    panes = list(frame.pane.blocks(max(1, _STRIP_CELLS // frame.columns), frame.columns))
    return (table for table in over_panes(raster, panes, partial(_table, raster), limits) if len(table))


def _table(raster: Raster, pane: Pane) -> FeatureTable:
    block, frame = raster.cells(pane), raster.frame
    known = [block.valid_of(n) for n in range(len(raster.bands))]
    rows, columns = np.nonzero(np.any(known, axis=0))
    middles = (columns + pane.left).astype(np.float64), (rows + pane.top).astype(np.float64)
    x, y = frame.centres(*middles)
    held: dict[str, Column] = {}
    for n, band in enumerate(raster.bands):
        values, ok = block.cells[n][rows, columns], known[n][rows, columns]
        whole = band.dtype.kind in "iu"
        if ok.all():
            held[band.name] = values.astype(np.int64 if whole else np.float64)
        elif whole:
            held[band.name] = column([v if k else None for v, k in zip(values.tolist(), ok, strict=True)])
        else:
            held[band.name] = np.where(ok, values, np.nan).astype(np.float64)
        if band.legend is not None and band.legend.named:
            legend = band.legend
            names = [legend.name(v) if k else None for v, k in zip(values.tolist(), ok, strict=True)]
            held[f"{band.name}_name"] = column(names)
    return FeatureTable(shapely.points(np.asarray(x), np.asarray(y)), held, frame.crs)
