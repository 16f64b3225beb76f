"""trace: rasters of lines as polylines."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from functools import partial
from itertools import pairwise
from typing import Annotated

import numpy as np
import numpy.typing as npt
import shapely

from zembrel.engine.limits import Limits
from zembrel.engine.run import over_panes
from zembrel.errors import InputError, UsageError
from zembrel.facts import distinct, fact, remarks
from zembrel.features.columns import column
from zembrel.features.ground import ground_lengths
from zembrel.features.table import FeatureTable, geometry_array
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.inputs.layers import Layer, check_resolved, only_layer
from zembrel.inputs.options import Inputs, Output
from zembrel.optiontext import OptionText
from zembrel.raster.kernels import skeleton
from zembrel.raster.model import Cells, Mask, Raster
from zembrel.raster.passing import blocks_of
from zembrel.results.receipt import Receipt
from zembrel.results.tables import check_target, write_layer

Integers = npt.NDArray[np.int64]


def trace(
    inputs: Inputs,
    output: Output,
    *,
    background: Annotated[
        float | None, OptionText("Value of cells that are not part of a line, besides nodata.", "VALUE")
    ] = None,
    spurs: Annotated[int, OptionText("Remove branches shorter than N cells.", "N")] = 0,
) -> Receipt:
    """The lines of one band, each from end or junction to the next, with its value, cells and ground length.

    background: what is no line, besides nodata; spurs: branches of fewer cells are taken away. Lines end
    where whole numbers change along them; of fractions they have the mean. Raises InputError for none.
    """
    out = output.path
    check_target(out, output)
    layer = only_layer("trace", inputs, output)
    check_resolved(layer)
    if spurs < 0:
        raise UsageError(f"--spurs {spurs}", "a number of cells is needed", "write --spurs 5")
    values, mask = _held(layer, background, output.limits)
    before = int(mask.sum())
    skeleton.thin(mask)
    gone = int(skeleton.prune(mask, spurs)) if spurs > 1 else 0
    cells, starts, _, alone = skeleton.follow(mask)
    if len(starts) < 2:
        raise InputError(
            f"{layer.path} has no line", f"{before:,} cells are no background", "check --background"
        )
    frame = layer.raster.frame
    table = _table(cells - 1, starts, values, frame)
    written = write_layer(out, table, output)
    ends = fact("lines_end") if values.dtype.kind in "iu" else fact("values_are_means")
    said = [*remarks(layer.remarks), fact("thinned", before=before, after=int(mask.sum())), ends]
    said += [fact("spurs_taken", spurs=gone, under=spurs)] if spurs > 1 else []
    said += [fact("cells_alone", cells=alone)] if alone else []
    return Receipt(
        "trace",
        (layer.path,),
        output.out,
        planned=output.dry_run,
        frame=frame,
        chose=distinct((*said, *written.notes)),
        results=(replace(written.result, what="lines"),),
        own={"features": written.features, "spurs": gone, "alone": int(alone)},
    )


def _read(raster: Raster, background: float | None, pane: Pane) -> tuple[Cells, Mask]:
    """Values of a pane, and which are of lines."""
    block = raster.cells(pane)
    known = block.valid_of(0) if background is None else block.valid_of(0) & (block.cells[0] != background)
    return block.cells[0], known


def _held(layer: Layer, background: float | None, limits: Limits) -> tuple[Cells, npt.NDArray[np.uint8]]:
    """All values, and which cells are of lines with an empty cell around. Raises InputError if all are."""
    raster: Raster = layer.raster
    frame = raster.frame
    values = np.zeros((frame.rows, frame.columns), raster.bands[0].dtype)
    mask = np.zeros((frame.rows + 2, frame.columns + 2), np.uint8)
    panes = blocks_of(raster)
    read = over_panes(raster, panes, partial(_read, raster, background), limits)
    for pane, (cells, known) in zip(panes, read, strict=True):
        rows, columns = pane.within(frame.pane)
        values[rows, columns] = cells
        mask[1:-1, 1:-1][rows, columns] = known
    if mask[1:-1, 1:-1].all():
        raise InputError(
            f"{layer.path} is all line", "every cell is valid", "say what is none: --background 0"
        )
    return values, mask


def _table(cells: Integers, starts: Integers, values: Cells, frame: Frame) -> FeatureTable:
    shapes, held, counts = [], [], []
    for first, last in pairwise(starts.tolist()):
        for part, value in _parts(cells[first:last], values):
            x, y = frame.centres(part[:, 1].astype(float), part[:, 0].astype(float))
            shapes.append(shapely.LineString(np.column_stack([np.asarray(x), np.asarray(y)])[_turns(part)]))
            held.append(value)
            counts.append(len(part))
    geometries = geometry_array(shapes)
    lengths = np.round(ground_lengths(geometries, frame.crs), 3)
    columns = {"value": column(held), "cells": np.array(counts), "length": lengths}
    return FeatureTable(geometries, columns, frame.crs)


def _parts(line: Integers, values: Cells) -> Iterator[tuple[Integers, int | float]]:
    """A line in pieces of one value, each up to the first cell of the next; of fractions whole."""
    along = values[line[:, 0], line[:, 1]]
    if values.dtype.kind not in "iu":
        yield line, float(np.mean(along, dtype=np.float64))
        return
    changes = np.flatnonzero(along[1:] != along[:-1]) + 1
    bounds = [0, *changes.tolist(), len(line)]
    for first, last in pairwise(bounds):
        part = line[first : min(last + 1, len(line))]
        if len(part) > 1:
            yield part, int(along[first])


def _turns(line: Integers) -> npt.NDArray[np.bool_]:
    """Where a line of cells begins, turns and ends."""
    steps = np.diff(line, axis=0)
    return np.concatenate([[True], (steps[1:] != steps[:-1]).any(axis=1), [True]])
