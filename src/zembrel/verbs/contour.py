"""contour: lines of equal value, or the areas between them."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import shapely

from zembrel.algebra.contourlevels import Contouring, check, levels_of, nice_step
from zembrel.engine.limits import Limits, stage
from zembrel.engine.run import over_panes
from zembrel.facts import distinct, remarks
from zembrel.features.columns import REAL, TRUTH
from zembrel.features.files.schema import Field, Schema
from zembrel.features.ground import ground_areas
from zembrel.features.table import FeatureTable, geometry_array
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.inputs.layers import check_resolved, only_layer
from zembrel.inputs.options import Inputs, Output
from zembrel.passes.survey import finite_ends
from zembrel.raster.isolines import Array, Isolines, Lines
from zembrel.raster.kernels import contour as kernel
from zembrel.raster.kernels import neighbours
from zembrel.raster.model import Raster
from zembrel.raster.views.unscaled import unscaled
from zembrel.results.receipt import Receipt
from zembrel.results.tables import check_target, full, write_parts

_STRIP_CELLS = 2_000_000
_SOFTENED = 2  # passes over the surface
_BATCH = 5_000  # lines written at a time
_MARGIN = 1 / 1024  # cells that the outlines of areas keep from the middles of cells


def contour(inputs: Inputs, output: Output, contouring: Contouring) -> Receipt:
    """Lines of one band with their value, or areas with the values between which they lie.

    Raises UsageError for levels that exclude each other, EmptyInputError where there is no cell, RefusedError
    for too many levels and for infinite values.
    """
    check(contouring)
    out = output.path
    check_target(out, output)
    layer = only_layer("contour", inputs, output)
    raster = unscaled(layer.raster)
    crs = check_resolved(layer)
    ends = finite_ends(raster, output.limits, "a surface has heights")
    if contouring.interval is None and contouring.levels is None and contouring.classes is None:
        contouring = replace(contouring, interval=nice_step(ends[1] - ends[0]))
    levels, chose = levels_of(raster, ends, contouring, output)
    kind = "MultiPolygon" if contouring.filled else "LineString"
    names = (
        {"low": REAL, "high": REAL, "area": REAL} if contouring.filled else {"value": REAL, "index": TRUTH}
    )
    schema = Schema(out.stem, kind, False, {name: Field(held, 0) for name, held in names.items()}, crs)
    make = _areas if contouring.filled else _lines
    tables = make(_Sweep(raster, levels, contouring, ends, output.limits))
    written = write_parts(out, tables, schema, output)
    return Receipt(
        "contour",
        (layer.path,),
        output.out,
        planned=output.dry_run,
        frame=layer.raster.frame,
        chose=distinct((*remarks(layer.remarks), *chose, *written.notes)),
        results=(written.result,),
        own={"levels": list(levels), "features": written.features},
    )


@dataclass(frozen=True, eq=False)
class _Heights:
    """The task of reading a strip of values, NaN where nothing is, softened if that is asked for."""

    raster: Raster
    smooth: bool

    def __call__(self, pane: Pane) -> Array:
        halo, rows = _SOFTENED if self.smooth else 0, self.raster.frame.rows
        above, below = min(halo, pane.top), min(halo, rows - pane.bottom)
        block = self.raster.cells(Pane(pane.top - above, 0, pane.bottom + below, pane.right))
        z: Array = block.cells[0].astype(np.float64)
        if block.valid is not None:
            z[~block.valid_of(0)] = np.nan
        if self.smooth:
            z = np.asarray(neighbours.softened(z, _SOFTENED))
        return z[above : len(z) - below]


@dataclass(frozen=True, eq=False)
class _Sweep:
    """Levels to be followed through a surface, whose values have these ends."""

    raster: Raster
    levels: Sequence[float]
    contouring: Contouring
    ends: tuple[float, float]
    limits: Limits

    @property
    def strips(self) -> Iterator[Array]:
        """Values from the top, each strip beginning with the last row of the one before."""
        frame = self.raster.frame
        step = max(2, _STRIP_CELLS // frame.columns)
        tops = range(0, max(frame.rows - 1, 1), step)
        panes = [Pane(top, 0, min(top + step + 1, frame.rows), frame.columns) for top in tops]
        return over_panes(self.raster, panes, _Heights(self.raster, self.contouring.smooth), self.limits)

    def followed(self, strips: Iterator[Array], sweeps: Sequence[Isolines]) -> Iterator[list[Lines]]:
        """The lines of each level that are complete with a strip; levels are followed side by side."""
        for z in strips:
            glances = kernel.glances(z)
            yield list(stage(sweeps, lambda sweep, z=z, g=glances: sweep.strip(z, g), self.limits))  # type: ignore[misc]
        yield [sweep.finish() for sweep in sweeps]


def _placed(lines: Lines, frame: Frame, shift: float = 0.0) -> Any:
    """Lines as geometries in the coordinates of the frame."""
    x, y = frame.corners.at(lines.points[:, 0] - shift, lines.points[:, 1] - shift)
    points = np.column_stack([np.asarray(x), np.asarray(y)])
    return shapely.from_ragged_array(shapely.GeometryType.LINESTRING, points, (lines.starts,))


def _lines(sweep: _Sweep) -> Iterator[FeatureTable]:
    frame, levels = sweep.raster.frame, sweep.levels
    if min(frame.rows, frame.columns) < 2:
        return
    sweeps = [Isolines(level, frame.columns) for level in levels]
    waiting: list[tuple[float, Any]] = []

    def table() -> FeatureTable:
        shapes = [shape for _, part in waiting for shape in part]
        values = np.array([level for level, part in waiting for _ in part], np.float64)
        flags = _flagged(values, sweep.contouring)
        return FeatureTable(geometry_array(shapes), {"value": values, "index": flags}, frame.crs)

    for found in sweep.followed(sweep.strips, sweeps):
        parts = zip(levels, found, strict=True)
        waiting += [(level, _placed(part, frame)) for level, part in parts if len(part.closed)]
        if full([part for _, part in waiting], _BATCH):
            yield table()
            waiting = []
    if waiting:
        yield table()


def _flagged(values: Array, contouring: Contouring) -> Any:
    if contouring.interval is None or contouring.index < 1:
        return np.zeros(len(values), bool)
    return np.round((values - contouring.base) / contouring.interval).astype(np.int64) % contouring.index == 0


def _areas(sweep: _Sweep) -> Iterator[FeatureTable]:
    """Bands between neighbouring levels: what lies above the lower less what lies above the higher."""
    frame, (low, high), beyond = sweep.raster.frame, sweep.ends, sweep.contouring.beyond
    levels = [-math.inf, *sweep.levels, math.inf] if beyond else list(sweep.levels)
    sweeps = [Isolines(_just_below(level, low), frame.columns + 2, _MARGIN) for level in levels]
    rings: list[list[Any]] = [[] for _ in levels]

    for found in sweep.followed(_padded(sweep), sweeps):
        for held, part in zip(rings, found, strict=True):
            if len(part.closed):
                held.append(_placed(part, frame, 1.0))
    if levels[-1] == high:  # the last area holds its upper end too
        rings[-1] = []
    above = list(stage(rings, _area, sweep.limits))

    def between(n: int) -> FeatureTable | None:
        band = shapely.make_valid(shapely.difference(above[n], above[n + 1]))
        parts = [p for p in shapely.get_parts(shapely.get_parts(band)) if p.geom_type == "Polygon"]
        if not parts:
            return None
        whole = geometry_array([shapely.MultiPolygon(parts)])
        area = ground_areas(whole, frame.crs, 32 * min(frame.cell))
        bounds = (np.array([level if math.isfinite(level) else math.nan]) for level in levels[n : n + 2])
        columns = dict(zip(("low", "high", "area"), (*bounds, np.round(area, 3)), strict=True))
        return FeatureTable(whole, columns, frame.crs)

    for table in stage(range(len(levels) - 1), between, sweep.limits):
        if table is not None:
            yield table


def _just_below(level: float, lowest: float) -> float:
    """What the values of an area from `level` on exceed; minus infinity where all values do."""
    return float(np.nextafter(level, -np.inf)) if level > lowest else -math.inf


def _padded(sweep: _Sweep) -> Iterator[Array]:
    """The strips with nothing around them, and nothing is lower than anything."""
    edge = np.full((1, sweep.raster.frame.columns + 2), -np.inf)
    first = True
    for z in sweep.strips:
        wide = np.pad(np.where(np.isnan(z), -np.inf, z), ((0, 0), (1, 1)), constant_values=-np.inf)
        yield np.vstack([edge, wide]) if first else wide
        first, last = False, wide[-1:]
    yield np.vstack([last, edge])


def _area(parts: list[Any]) -> Any:
    """What closed lines enclose, by the even-odd rule; a line may touch itself at corners of void cells."""
    if not parts:
        return shapely.Polygon()
    rings = np.concatenate(parts)
    simple = shapely.is_simple(rings)
    pieces = [*rings[simple], *shapely.get_parts(shapely.node(rings[~simple]))]
    return shapely.make_valid(shapely.build_area(shapely.MultiLineString(pieces)))
