"""polygonize: regions of equal cells as polygons."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Annotated

import numpy as np
import shapely

from zembrel.engine.limits import Limits, ahead, stage
from zembrel.errors import InputError, RefusedError, UsageError
from zembrel.facts import Fact, distinct, fact, remarks
from zembrel.features.columns import INTEGER, REAL, TEXT, column
from zembrel.features.files.schema import Field, Schema
from zembrel.features.ground import ground_areas
from zembrel.features.outlined import Shapes, shapes_of
from zembrel.features.table import FeatureTable
from zembrel.grid.frame import Array, Frame
from zembrel.grid.pane import Pane
from zembrel.inputs.layers import Layer, check_resolved, only_layer
from zembrel.inputs.lengths import in_crs_units
from zembrel.inputs.options import Inputs, Output
from zembrel.optiontext import OptionText
from zembrel.passes.sieving import check_least, sieved_codes
from zembrel.raster.legend import hex_of
from zembrel.raster.model import Raster
from zembrel.raster.regions import Found, RegionOutlines, RegionSweep, Swept
from zembrel.raster.views.cast import cast
from zembrel.results.receipt import Receipt
from zembrel.results.tables import check_target, full, write_parts

_PIECE = 32.0  # cells of an edge at a time, for areas on the ground
_SAMPLE = 512  # cells a side of what is looked at to estimate regions
_PASSES = 3  # of smoothing
_BATCH = 20_000  # features written at a time


@dataclass(frozen=True)
class Outlining:
    """How cells become polygons.

    diagonal: whether cells that meet at a corner alone are of one region; dissolve: whether all regions of a
    value are one feature; rounded: whether floats may become whole numbers; min_cells: regions with fewer go
    to their largest neighbours; smooth: whether corners are cut; simplify: how far outlines may move.
    """

    diagonal: Annotated[bool, OptionText("Also join cells that touch only at a corner.")] = False
    dissolve: Annotated[bool, OptionText("Write one feature per value instead of one per region.")] = False
    rounded: Annotated[bool, OptionText("Round fractions.", flag="--round")] = False
    min_cells: Annotated[
        int, OptionText("Merge regions smaller than N cells into their largest neighbour.", "N")
    ] = 0
    smooth: Annotated[bool, OptionText("Cut corners by up to half a cell; shared borders stay shared.")] = (
        False
    )
    simplify: Annotated[
        str | None,
        OptionText("Simplify outlines within this distance; shared borders stay shared.", "LENGTH"),
    ] = None


@dataclass
class _RegionCounts:
    """What was met in passing, and what to say of it."""

    regions: int = 0
    cells: int = 0
    said: list[Fact] = field(default_factory=list)


def polygonize(inputs: Inputs, output: Output, outlining: Outlining) -> Receipt:
    """The regions of one band, each with its value, cells and ground area, and its name if it has one.

    Raises RefusedError for floats, with an estimate of the regions they would make; UsageError for a name
    that is no feature file's.
    """
    out = output.path
    check_target(out, output)
    check_least(outlining.min_cells)
    layer = only_layer("polygonize", inputs, output)
    raster, chose = _whole_numbers(layer, outlining)
    check_resolved(layer)
    counts = _RegionCounts()
    shaped = _shapes(raster, outlining, counts, output.limits)
    tables = (_table(shapes, areas, raster) for shapes, areas in shaped)
    written = write_parts(out, tables, _schema(out.stem, raster, outlining), output)
    if not counts.regions:
        raise InputError(f"{layer.path} has no valid cell", "there is no region", "check its nodata")
    way = fact("joined_at", at="corners") if outlining.diagonal else fact("joined_at", at="edges")
    return Receipt(
        "polygonize",
        (layer.path,),
        output.out,
        planned=output.dry_run,
        frame=raster.frame,
        chose=distinct((*remarks(layer.remarks), *chose, way, *counts.said, *written.notes)),
        checks=(fact("cells_in_regions", cells=counts.cells, regions=counts.regions),),
        results=(written.result,),
        own={"regions": counts.regions, "features": written.features, "cells": counts.cells},
    )


def _schema(name: str, raster: Raster, outlining: Outlining) -> Schema:
    several = outlining.diagonal or outlining.dissolve or outlining.simplify is not None
    kind = INTEGER if _unscaled(raster) else REAL
    fields = {"value": Field(kind, 0), "cells": Field(INTEGER, 0), "area": Field(REAL, 0)}
    legend = raster.bands[0].legend
    if legend is not None and legend.named:
        width = max(len(entry.name.encode()) for entry in legend.entries)
        fields["name"] = Field(TEXT, max(width, 1))
    if legend is not None:
        fields["colour"] = Field(TEXT, 7)
    shape = "MultiPolygon" if several else "Polygon"
    named = [(e.code, e.name) for e in legend.entries if e.name] if legend is not None else []
    return Schema(name, shape, False, fields, raster.frame.crs, {"value": named} if named else {})


def _areas(shapes: Shapes, frame: Frame) -> Array:
    """Square metres on the ground."""
    return ground_areas(shapes.geometries, frame.crs, _PIECE * min(frame.cell))


def _table(shapes: Shapes, areas: Array, raster: Raster) -> FeatureTable:
    frame, legend = raster.frame, raster.bands[0].legend
    band = raster.bands[0]
    values = shapes.values if _unscaled(raster) else shapes.values * band.scale + band.offset
    columns = {"value": values, "cells": shapes.cells, "area": np.round(areas, 3)}
    if legend is not None and legend.named:
        columns["name"] = column([legend.name(value) for value in shapes.values.tolist()])
    if legend is not None:
        colours = {entry.code: hex_of(entry.colour) for entry in legend.entries}
        columns["colour"] = column([colours.get(value) for value in shapes.values.tolist()])
    return FeatureTable(shapes.geometries, columns, frame.crs)


def _unscaled(raster: Raster) -> bool:
    """Whether stored numbers are the values themselves."""
    return (raster.bands[0].scale, raster.bands[0].offset) == (1.0, 0.0)


def _shapes(
    raster: Raster, outlining: Outlining, counts: _RegionCounts, limits: Limits
) -> Iterator[tuple[Shapes, Array]]:
    """Polygons and their areas as they are complete; all at once where they are dissolved or simplified."""
    frame, smooth, outlines = raster.frame, _PASSES if outlining.smooth else 0, RegionOutlines()
    waiting: list[tuple[Shapes, Array]] = []
    whole = outlining.dissolve or outlining.simplify is not None

    def shaped(found: Found) -> tuple[Shapes, Array]:
        shapes = shapes_of(found, frame, smooth=smooth)
        return shapes, np.zeros(0) if whole else _areas(shapes, frame)

    founds = (outlines.take(swept) for swept in ahead(_sweep(raster, outlining, counts, limits), limits))
    for shapes, areas in stage(founds, shaped, limits):
        counts.regions += shapes.values.size
        counts.cells += int(shapes.cells.sum())
        waiting.append((shapes, areas))
        if not whole and full([part.geometries for part, _ in waiting], _BATCH):
            yield _together(waiting)
            waiting = []
    if outlining.smooth:
        counts.said.append(fact("corners_cut"))
    if not waiting:
        return
    last, areas = _together(waiting)
    if outlining.simplify is not None:
        reach = in_crs_units(outlining.simplify, frame)
        simple = shapely.coverage_simplify(last.geometries, reach)
        counts.said.append(fact("simplified", by=outlining.simplify))
        last = last._replace(geometries=np.asarray(simple, object))
    if outlining.dissolve:
        counts.said.append(fact("dissolved"))
        last = _dissolved(last)
    if last.values.size:
        yield last, _areas(last, frame) if whole else areas


def _together(parts: list[tuple[Shapes, Array]]) -> tuple[Shapes, Array]:
    joined = (np.concatenate([shapes[n] for shapes, _ in parts]) for n in range(3))
    return Shapes(*joined), np.concatenate([areas for _, areas in parts])


def _whole_numbers(layer: Layer, outlining: Outlining) -> tuple[Raster, list[Fact]]:
    raster = layer.raster
    kind = raster.bands[0].dtype
    if kind.kind == "f":
        if not outlining.rounded:
            raise RefusedError(
                f"{layer.path} holds {kind.name} cells",
                f"about {_estimate(raster):,} regions would come of values that are nowhere quite equal",
                "add --round, or make classes of them first",
            )
        return cast(raster, "int32"), [fact("values_rounded")]
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
    sweep, outlines = RegionSweep(columns), RegionOutlines()
    found = sweep.strip(codes.reshape(known.shape), known), sweep.finish()
    return round(sum(outlines.take(part).values.size for part in found) * frame.size / (rows * columns))


def _sweep(raster: Raster, outlining: Outlining, counts: _RegionCounts, limits: Limits) -> Iterator[Swept]:
    """What each strip of rows brings."""
    diagonal = outlining.diagonal
    parts, said = sieved_codes(raster, outlining.min_cells, diagonal, limits)
    counts.said += said
    junctions = outlining.smooth or outlining.simplify is not None
    sweep = RegionSweep(raster.frame.columns, diagonal, junctions)
    for cells, known in parts:
        yield sweep.strip(cells, known)
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
