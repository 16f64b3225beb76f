"""draw for points: a plan, or a vertical section along a line."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import numpy.typing as npt

from zembrel.draw.colouring import Look
from zembrel.draw.picture import View, draw_picture
from zembrel.draw.points import Section, along_line, draw_section
from zembrel.engine.commit import Staging, resource_errors
from zembrel.engine.points import Piece, over_pieces, pieces_of
from zembrel.errors import EmptyInputError, InputError, UsageError, nearest_name
from zembrel.facts import Fact, fact
from zembrel.geodesy.crs import label
from zembrel.grid.frame import Frame, snapped
from zembrel.grid.pane import Pane
from zembrel.handles import size_on_disk
from zembrel.inputs.clouds import picking
from zembrel.inputs.intake import Given
from zembrel.inputs.lengths import in_units_of
from zembrel.inputs.options import Output, Where
from zembrel.points import kernels
from zembrel.points.classes import legend_of
from zembrel.points.gridding.statistic import as_block
from zembrel.points.gridding.tallied import placing_of
from zembrel.points.model import PointBlock
from zembrel.points.picking import Picking
from zembrel.raster.legend import Legend, LegendEntry, shade
from zembrel.raster.model import Band, Block
from zembrel.raster.views.fill import Filled
from zembrel.results.mergedclouds import Merged, merged
from zembrel.results.phrases import unit_sign
from zembrel.results.receipt import PointTotals, Receipt, Result

_ACROSS = 1000  # cells along the longer side of a plan
_WIDTH = 40  # a section is that many times as long as wide, if nobody says
_BY = {
    "height": "z",
    "class": "class",
    "intensity": "intensity",
    "return": "return",
    "source": "source",
    "time": "gps_time",
}


@dataclass(frozen=True)
class PointLook:
    """What points are coloured by, and the line of a section: X1,Y1,X2,Y2 and how wide it is."""

    by: str = "height"
    section: str | None = None
    width: str | None = None


def draw(given: Given, where: Where, output: Output, look: Look, points: PointLook) -> Receipt:
    """A picture of clouds, seen as one. Raises UsageError or InputError."""
    if points.by not in _BY:
        raise UsageError(f"--by {points.by}", "points are coloured by a value", nearest_name(points.by, _BY))
    paths = given.paths
    whole = merged(given, where, output)
    title = (
        look.title
        if look.title is not None
        else " and ".join(p.stem for p in paths[:3]) + " ..." * (len(paths) > 3)
    )
    picked = picking(given.options)
    with Staging(output.replace) as staging:
        staged = staging.path_for(output.path)
        with resource_errors(output.path):
            drawn = _section if points.section else _plan
            count, shown = drawn(whole, picked, staged, (look, points, title), output)
        staging.publish()
    return Receipt(
        "draw",
        tuple(paths),
        output.out,
        points=PointTotals(count, whole.count, whole.crs),
        chose=tuple(shown),
        results=(Result(output.path, size_on_disk(output.path), seconds=output.seconds),),
        own={"points": count},
    )


Asked = tuple[Look, PointLook, str]


@dataclass(frozen=True, eq=False)
class _Picked:
    """The task of reading the points of a piece that are asked for, in the common CRS."""

    whole: Merged
    picked: Picking
    fields: frozenset[str]

    def __call__(self, piece: Piece) -> PointBlock:
        block = piece.source.read(piece.part, self.fields | {"z"} | self.picked.names)
        block = self.whole.brought(block, piece)
        return block if self.picked.all else block.take(self.picked.mask(block))


def _blocks(whole: Merged, picked: Picking, fields: set[str], output: Output) -> Iterator[PointBlock]:
    task = _Picked(whole, picked, frozenset(fields))
    return over_pieces(pieces_of(whole.sources), task, output.limits)


@dataclass(frozen=True, eq=False)
class _Top:
    """The value of the highest point of each cell."""

    frame: Frame
    bands: tuple[Band, ...]
    held: npt.NDArray[np.float64]

    def cells(self, pane: Pane) -> Block:
        part = self.held[pane.top : pane.bottom, pane.left : pane.right]
        return as_block(part[np.newaxis], self.bands)


def _plan(
    whole: Merged, picked: Picking, path: Path, asked: Asked, output: Output
) -> tuple[int, tuple[Fact, ...]]:
    look, points, title = asked
    west, south, _, east, north, _ = whole.bounds
    if whole.within is not None:
        box = whole.within.bounds
        west, south, east, north = (
            max(west, box[0]),
            max(south, box[1]),
            min(east, box[2]),
            min(north, box[3]),
        )
    spacing = float(np.sqrt(max((east - west) * (north - south), 1e-12) / max(whole.count, 1)))
    cell = max(max(east - west, north - south) / _ACROSS, 0.7 * spacing, 1e-9)
    frame = snapped(whole.crs, (west, south, east, north), (cell, cell))
    heights = np.full((frame.rows, frame.columns), -np.inf)
    held, count = np.full(heights.shape, np.nan), 0
    for block in _blocks(whole, picked, {_BY[points.by]}, output):
        values = np.asarray(block.values(_BY[points.by]), np.float64)
        stored = (block.records[axis] for axis in "XYZ")
        kernels.binning.add_topmost(*stored, values, placing_of(frame, block.scaling), heights, held)
        count += len(block)
    if not count:
        raise EmptyInputError(
            "there is no point to draw", f"{whole.count:,} were looked at", "check --classes and --within"
        )
    legend = _legend(points.by, held) if look.legend is None else look.legend
    band = Band(points.by, "float32" if legend is None else "uint8", legend=legend)
    view = Filled(_Top(frame, (band,), held), 2.5, nearest=True)
    ramp = look.ramp or ("relief" if points.by == "height" else None)
    limits = look.limits or (None if legend is not None else _without_outliers(held))
    look = replace(look, ramp=ramp, limits=limits, legend=None, amount=f"{count:,} points")
    shown = draw_picture([View(title, view)], path, look, title, output.limits)
    return count, (
        fact("highest_points", cell=cell, unit=unit_sign(whole.crs), by=points.by),
        *shown,
    )


def _without_outliers(values: npt.NDArray[np.float64]) -> tuple[float, float]:
    """Ends of a ramp that a few echoes of birds do not move."""
    low, high = np.nanpercentile(values, [0.1, 99.9]).tolist()
    return (low, high) if low < high else (low - 0.5, high + 0.5)


def _legend(by: str, values: npt.NDArray[np.float64]) -> Legend | None:
    """Names and colours of values that are codes."""
    if by == "class":
        return legend_of([int(v) for v in np.unique(values[np.isfinite(values)])])
    if by == "return":
        codes = [int(v) for v in np.unique(values[np.isfinite(values)])]
        return Legend.of(LegendEntry(code, "return", shade(code)) for code in codes)
    return None


def _section(
    whole: Merged, picked: Picking, path: Path, asked: Asked, output: Output
) -> tuple[int, tuple[Fact, ...]]:
    look, points, title = asked
    ends = _ends(str(points.section))
    length = float(np.hypot(ends[2] - ends[0], ends[3] - ends[1]))
    width = _half_width(points.width, whole, length) * 2
    found: list[tuple[npt.NDArray[np.float64], ...]] = []
    for block in _blocks(whole, picked, {_BY[points.by]}, output):
        along, beside = along_line(block.x, block.y, ends)
        near = (along >= 0) & (along <= length) & (beside <= width / 2)
        if near.any():
            part = block.take(near)
            found.append((along[near], part.z, np.asarray(part.values(_BY[points.by]), np.float64)))
    if not found:
        west, south, _, east, north, _ = whole.bounds
        raise InputError(
            f"no point lies within {width / 2:.4g} of the line {points.section}",
            f"the points lie from {west:.10g},{south:.10g} to {east:.10g},{north:.10g}",
            "check the line, or give a larger --width",
        )
    along, height, values = (np.concatenate(v) for v in zip(*found, strict=True))
    unit, name = unit_sign(whole.crs), points.by
    if name == "time":
        values, name = values - values.min(), "seconds from the first point"
    legend = look.legend or _legend(points.by, values)
    section = Section(along, height, values, length, name, legend, unit)
    known = whole.crs is not None and whole.crs.code
    place = f"EPSG:{whole.crs.code}" if known and whole.crs is not None else label(whole.crs)
    said = f"{place}   {points.section}   {width:.4g} {unit} wide   {len(along):,} points"
    return len(along), (
        fact("section_width", width=width, unit=unit),
        *draw_section(section, path, look, title, said),
    )


def _ends(text: str) -> tuple[float, float, float, float]:
    try:
        x0, y0, x1, y1 = (float(part) for part in text.split(","))
    except ValueError as exc:
        raise UsageError(f"--section {text}", "a line has two ends", "write --section X1,Y1,X2,Y2") from exc
    if (x0, y0) == (x1, y1):
        raise UsageError(f"--section {text}", "its ends are one place", "give two places")
    return x0, y0, x1, y1


def _half_width(text: str | None, whole: Merged, length: float) -> float:
    if text is None:
        return length / _WIDTH / 2
    return in_units_of(text, whole.crs) / 2
