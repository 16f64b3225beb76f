"""contour: lines of equal value, or the areas between them."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import shapely

from zembrel.engine.limits import Limits, stage
from zembrel.engine.run import over_panes
from zembrel.errors import InputError, RefusedError, UsageError
from zembrel.facts import Fact, distinct, fact, remarks
from zembrel.features.columns import REAL, TRUTH
from zembrel.features.files.schema import Field, Schema
from zembrel.features.ground import ground_areas
from zembrel.features.table import FeatureTable, geometry_array
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.measure import show_number
from zembrel.raster.isolines import Array, Isolines, Lines
from zembrel.raster.kernels import contour as kernel
from zembrel.raster.model import Raster
from zembrel.raster.survey import Statistics
from zembrel.raster.views.unscaled import unscaled
from zembrel.verbs.features.writing import check_target, full, write_parts
from zembrel.verbs.layers import check_resolved, only_layer
from zembrel.verbs.options import Inputs, Output
from zembrel.verbs.receipt import Receipt
from zembrel.verbs.survey import quantiles, seen

_STRIP_CELLS = 2_000_000
_MOST_LEVELS = 10_000
_SOFTENED = 2  # passes over the surface
_BATCH = 5_000  # lines written at a time
_USUAL = 10  # steps over the range, if nobody says


@dataclass(frozen=True)
class Contouring:
    """At which values: an interval counted from a base, given levels, or classes of equally many cells.

    filled: areas between the levels instead of lines; index: every so many intervals is flagged; smooth:
    whether the surface is softened first.
    """

    interval: float | None = None
    base: float = 0.0
    levels: str | None = None
    classes: int | None = None
    filled: bool = False
    index: int = 5
    smooth: bool = False


def contour(inputs: Inputs, output: Output, contouring: Contouring) -> Receipt:
    """Lines of one band with their value, or areas with the values between which they lie.

    Raises UsageError for levels that exclude each other, RefusedError for too many of them.
    """
    out = output.path
    check_target(out, output)
    layer = only_layer("contour", inputs, output)
    raster = unscaled(layer.raster)
    crs = check_resolved(layer)
    statistics = seen(raster, Statistics(), output.limits).tallies[0]
    if not statistics.cells:
        raise InputError(f"{layer.path} has no valid cell", "there is no surface", "check its nodata")
    ends = statistics.low, statistics.high
    if contouring.interval is None and contouring.levels is None and contouring.classes is None:
        contouring = replace(contouring, interval=nice_step(ends[1] - ends[0]))
    levels, chose = _levels(raster, ends, contouring, output)
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


def _levels(
    raster: Raster, ends: tuple[float, float], contouring: Contouring, output: Output
) -> tuple[list[float], list[Fact]]:
    low, high = ends
    asked = [contouring.interval, contouring.levels, contouring.classes]
    if sum(one is not None for one in asked) > 1:
        raise UsageError(
            "levels are said once",
            "--interval, --levels and --classes exclude each other",
            "keep one of them",
        )
    if contouring.levels is not None:
        levels = _given(contouring.levels)
    elif contouring.classes is not None:
        levels = _equal_counts(raster, ends, contouring, output)
    else:
        interval = contouring.interval
        assert interval is not None
        if not interval > 0 or not math.isfinite(interval):
            raise UsageError(f"--interval {interval:g}", "lines lie some way apart", "write --interval 20")
        first = math.floor((low - contouring.base) / interval)
        last = math.ceil((high - contouring.base) / interval)
        if last - first > _MOST_LEVELS:
            raise RefusedError(
                f"--interval {interval:g} makes {last - first:,} levels",
                f"values run from {show_number(low)} to {show_number(high)}",
                f"at most {_MOST_LEVELS:,} are drawn: write a larger one",
            )
        levels = [contouring.base + n * interval for n in range(first, last + 1)]
    if not contouring.filled:
        levels = [level for level in levels if low <= level < high]
    said = [fact("levels", levels=len(levels), lowest=levels[0], highest=levels[-1])] if levels else []
    if not levels:
        raise InputError(
            "no level lies within the values",
            f"these run from {show_number(low)} to {show_number(high)}",
            "choose other --levels, or a smaller --interval",
        )
    return levels, [*said, *([fact("softened")] if contouring.smooth else [])]


def _given(text: str) -> list[float]:
    try:
        levels = [float(part) for part in text.split(",")]
    except ValueError as exc:
        raise UsageError(f"--levels {text}", "numbers are needed", "write --levels 5,10,50") from exc
    if sorted(set(levels)) != levels or not np.isfinite(levels).all():
        raise UsageError(f"--levels {text}", "they have to rise", "write --levels 5,10,50")
    return levels


def _equal_counts(
    raster: Raster, ends: tuple[float, float], contouring: Contouring, output: Output
) -> list[float]:
    """The values between classes of equally many cells, and the ends."""
    count = int(contouring.classes or 0)
    if not 2 <= count <= _MOST_LEVELS:
        raise UsageError(f"--classes {count}", "2 and more make levels", "write --classes 5")
    shares = [n / count for n in range(1, count)]
    return sorted({ends[0], *quantiles([raster], shares, output.limits), ends[1]})


def nice_step(span: float) -> float:
    """1, 2 or 5 times a power of ten, so that about ten make the span."""
    if span <= 0:
        return 1.0
    power = 10.0 ** math.floor(math.log10(span / _USUAL))
    return next(float(step * power) for step in (1, 2, 5, 10) if step * power * _USUAL >= span * 0.999)


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
            z = np.asarray(kernel.softened(z, _SOFTENED))
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
    frame, levels, lowest = sweep.raster.frame, sweep.levels, sweep.ends[0]
    traced = [np.nextafter(lowest, -np.inf) if level <= lowest else level for level in levels]
    sweeps = [Isolines(level, frame.columns + 2) for level in traced]
    rings: list[list[Any]] = [[] for _ in levels]

    for found in sweep.followed(_padded(sweep), sweeps):
        for held, part in zip(rings, found, strict=True):
            if len(part.closed):
                held.append(_placed(part, frame, 1.0))
    above = list(stage(rings, _area, sweep.limits))

    def between(n: int) -> FeatureTable | None:
        band = shapely.make_valid(shapely.difference(above[n], above[n + 1]))
        parts = [p for p in shapely.get_parts(shapely.get_parts(band)) if p.geom_type == "Polygon"]
        if not parts:
            return None
        whole = geometry_array([shapely.MultiPolygon(parts)])
        area = ground_areas(whole, frame.crs, 32 * min(frame.cell))
        columns = {"low": np.array([levels[n]]), "high": np.array([levels[n + 1]]), "area": np.round(area, 3)}
        return FeatureTable(whole, columns, frame.crs)

    for table in stage(range(len(levels) - 1), between, sweep.limits):
        if table is not None:
            yield table


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
    """What closed lines enclose, by the even-odd rule."""
    if not parts:
        return shapely.Polygon()
    return shapely.make_valid(shapely.build_area(shapely.MultiLineString(np.concatenate(parts).tolist())))
