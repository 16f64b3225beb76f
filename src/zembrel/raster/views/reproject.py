"""Cells of another frame: the one view behind resample and reproject."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from fractions import Fraction
from functools import cached_property
from typing import Any

import numpy as np

from zembrel.geodesy.crs import same
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster import kernels
from zembrel.raster.coordinates import SIDE, CoordinateMap, Lattice, Scales, reached
from zembrel.raster.kernels import radii
from zembrel.raster.kernels.arguments import Into, PatchScales, Pick, Sampled
from zembrel.raster.method import NEED, Method, parse_method
from zembrel.raster.model import Band, Block, Cells, Raster, nothing, shared_type
from zembrel.raster.views.around import around
from zembrel.raster.views.opacity import weighing
from zembrel.raster.views.place import place
from zembrel.raster.worktype import WorkType

_NEED = NEED - 1e-9
WIDEN_FROM = 1.1  # shrinking by less than this leaves an interpolation kernel as it is
_MOST_SOURCE_CELLS = 4_000_000  # asked for at once; larger panes are cut
_STRIP = SIDE  # rows at a time


@dataclass(frozen=True)
class Reproject:
    """`source` on `frame`, each cell computed by `method`."""

    source: Raster
    frame: Frame
    method: Method

    @property
    def bands(self) -> tuple[Band, ...]:
        """Those of the source; sums are floats, since they are parts of cells and larger than any."""
        if self.method.name != "sum":
            return self.source.bands
        return tuple(replace(band, type="float64", nodata=None) for band in self.source.bands)

    @cached_property
    def coordinates(self) -> CoordinateMap:
        return CoordinateMap(self.frame, self.source.frame)

    def window(self, pane: Pane) -> Pane | None:
        """The cells of the source of which those of `pane` are made, or None."""
        if self.coordinates.parallel:
            u, v = self.coordinates.axes(pane)
            halo = self._halo(self._steps[0]), self._halo(self._steps[1])
            return reached(u, v, halo).meet(self.source.frame.pane)
        scales = self.coordinates.scales(pane) if self._scaled else None
        step_x, step_y = (1.0, 1.0) if scales is None else scales.steps.max(axis=(1, 2)).tolist()
        halo = self._halo(step_x), self._halo(step_y)
        return self.coordinates.lattice(pane).reach(pane, halo, self.source.frame.pane)

    def cells(self, pane: Pane) -> Block:
        if self.coordinates.parallel and self.method.name != "nearest":
            return self._along_axes(pane)
        return self._summed(pane) if self.method.name == "sum" else self._freely(pane)

    def _along_axes(self, pane: Pane) -> Block:

        u, v = self.coordinates.axes(pane)
        step_x, step_y = self._steps
        wanted = reached(u, v, (self._halo(step_x), self._halo(step_y))).meet(self.source.frame.pane)
        if wanted is None:
            return nothing(self.bands, pane.shape)
        if wanted.size > _MOST_SOURCE_CELLS and pane.size > 1:
            return _joined(pane, self._along_axes)
        block = self._read(wanted)
        out, ok = self._blank(block, pane.shape)
        source = np.ascontiguousarray(block.cells), _mask(block)
        if self.method.ranked:
            at = Sampled(*source, u, v, wanted.left, wanted.top)
            kernels.footprint.picked_along_axes(
                at, step_x, step_y, self._rank, self._work.finish(NEED), Into(out, ok, 0)
            )
            return self._result(block, out, ok)
        sums, kind = self.method.name == "sum", self.method.kind
        code, radius = (radii.MEAN if sums else kind.code), kind.radius
        by_row = kernels.resample.axis_weights(code, radius, v, _widened(step_y, code), wanted.top)
        by_column = kernels.resample.axis_weights(code, radius, u, _widened(step_x, code), wanted.left)
        finish = self._work.finish(0.0 if sums else _NEED)
        kernels.resample.weighted(*source, by_row, by_column, finish, sums, Into(out, ok, 0))
        return self._result(block, out, ok)

    @property
    def _rank(self) -> Pick:
        """What to pick from a footprint."""
        pick = self.method.kind.pick
        return Pick(pick, self.method.rank if pick == radii.RANK else 0.0)

    def _summed(self, pane: Pane) -> Block:
        """Sums over the footprints between the corners of result cells, wherever those fall."""

        around = Pane(pane.top, pane.left, pane.bottom + 1, pane.right + 1)
        lattice = self._corners.lattice(around)
        wanted = lattice.reach(around, (1, 1), self.source.frame.pane)
        if wanted is None:
            return nothing(self.bands, pane.shape)
        if wanted.size > _MOST_SOURCE_CELLS and pane.size > 1:
            return _joined(pane, self._summed)
        block = self._read(wanted)
        out, ok = self._blank(block, pane.shape)
        at = *lattice.positions(around), wanted.left, wanted.top
        kernels.overlay.summed(np.ascontiguousarray(block.cells), _mask(block), *at, out, ok)
        return self._result(block, out, ok)

    @cached_property
    def _corners(self) -> CoordinateMap:
        """Positions of the corners of result cells, as those of the middles of a frame of its own."""
        half = Fraction(-1, 2)
        lattice = self.frame.corners.shifted(half, half)
        frame = Frame(self.frame.crs, lattice, self.frame.columns + 1, self.frame.rows + 1)
        return CoordinateMap(frame, self.source.frame)

    @cached_property
    def _steps(self) -> tuple[float, float]:
        """Source cells per result cell along x and y, for parallel frames."""
        mine, theirs = self.frame.affine, self.source.frame.affine
        return abs(mine.x_col / theirs.x_col), abs(mine.y_row / theirs.y_row)

    def _halo(self, step: float) -> int:
        if self.method.name == "nearest":
            return 1
        return math.ceil(self.method.kind.radius * max(step, 1.0)) + 1

    @cached_property
    def _scaled(self) -> bool:
        """Whether the size of a cell's footprint counts: decided for the frame, so that blocks agree."""
        if self.method.footprint:
            return True
        return self.method.name != "nearest" and self.coordinates.largest_scale >= WIDEN_FROM

    def _freely(self, pane: Pane) -> Block:
        lattice = self.coordinates.lattice(pane)
        return self._sampled(pane, pane, lattice, self.coordinates.scales(pane) if self._scaled else None)

    def _sampled(self, pane: Pane, whole: Pane, lattice: Lattice, scales: Scales | None) -> Block:
        """Cells of `pane`, of whose surrounding `whole` positions and scales are given."""
        step_x, step_y = (1.0, 1.0) if scales is None else scales.steps.max(axis=(1, 2)).tolist()
        wanted = lattice.reach(pane, (self._halo(step_x), self._halo(step_y)), self.source.frame.pane)
        if wanted is None:
            return nothing(self.bands, pane.shape)
        if wanted.size > _MOST_SOURCE_CELLS and pane.size > 1:
            return _joined(pane, lambda part: self._sampled(part, whole, lattice, scales))
        block = self._read(wanted)
        out, ok = self._blank(block, pane.shape)
        source = np.ascontiguousarray(block.cells), _mask(block)
        colours = self._colours(block, scales is not None)
        for strip in pane.blocks(_STRIP, pane.columns):  # positions stay in the processor's cache
            at = Sampled(*source, *lattice.positions(strip), wanted.left, wanted.top)
            into = Into(out, ok, strip.top - pane.top)
            if scales is None:
                self._interpolate(colours, at, into)
            else:
                lead = scales.lead_r + strip.top - whole.top, scales.lead_c + strip.left - whole.left
                self._gather(at, PatchScales(scales.steps, SIDE, *lead), into)
        return self._result(block, out, ok)

    def _interpolate(self, colours: Cells | None, at: Sampled, into: Into) -> None:
        """Fill `into` by the method's kernel as it is, at native size."""

        name, finish = self.method.name, self._work.finish(_NEED)
        if name == "nearest":
            kernels.warp.nearest(at, into)
        elif name != "bilinear":
            weights = kernels.weights.phase_table(self.method.kind.code, self.method.kind.radius)
            if colours is not None:
                work = (
                    kernels.windowed.colours_of_4 if weights.shape[1] == 4 else kernels.windowed.colours_of_6
                )
                work(colours, at, weights.astype(np.float32), finish, into)
            else:
                kernels.windowed.tabled(at, weights, finish, into)
        elif into.out.dtype == np.uint8:
            lanes = np.empty((0, 0), np.uint64) if colours is None else colours
            kernels.warp.bilinear_bytes(lanes, at, finish, into)
        else:
            kernels.warp.bilinear(at, finish, into)

    def _colours(self, block: Block, scaled: bool) -> Cells | None:
        """Three bands once more, together, for the kernels that weigh colours in one go."""

        kind = block.cells.dtype
        if scaled or block.cells.shape[0] != 3 or kind.kind != "u" or kind.itemsize > 2:
            return None
        if self.method.name in ("cubic", "lanczos"):
            colours = np.empty((*block.cells.shape[1:], 4), kind)
            kernels.windowed.side_by_side(block.cells, colours)
            return colours
        if self.method.name == "bilinear" and kind.itemsize == 1:
            lanes = np.empty(block.cells.shape[1:], np.uint64)
            kernels.warp.in_lanes(block.cells, lanes)
            return lanes
        return None

    def _gather(self, at: Sampled, patches: PatchScales, into: Into) -> None:
        """Fill `into` from the source cells in each footprint, by a widened kernel."""

        if self.method.ranked:
            kernels.footprint.picked(at, patches, self._rank, self._work.finish(NEED), into)
            return
        code, radius = self.method.kind[:2]
        if code != radii.MEAN:
            steps = patches.scale
            patches = patches._replace(scale=np.where(steps < WIDEN_FROM, 1.0, steps))
        kernels.warp.weighted(at, code, radius, patches, self._work.finish(_NEED), into)

    @cached_property
    def _work(self) -> WorkType:
        return WorkType(shared_type(self.source.bands), self.method, len(self.source.bands))

    def _read(self, pane: Pane) -> Block:
        block = self.source.cells(pane)
        return Block(self._work.taken(block.cells), block.valid)

    def _result(self, block: Block, out: Cells, ok: Cells) -> Block:
        made, valid = self._work.given(out), ok.view(bool)
        if valid.all():
            return Block(made)
        return Block(made, valid if block.valid is not None and block.valid.ndim == 3 else valid[0])

    def _blank(self, block: Block, shape: tuple[int, int]) -> tuple[Cells, Cells]:
        """Cells and validity of a result, none valid yet."""
        layers = block.cells.shape[0] if block.valid is not None and block.valid.ndim == 3 else 1
        made = np.zeros((block.cells.shape[0], *shape), self._work.result)
        return made, np.zeros((layers, *shape), np.uint8)


def _widened(step: float, code: int) -> float:
    return 1.0 if code != radii.MEAN and step < WIDEN_FROM else step


def _joined(pane: Pane, part: Any) -> Block:
    """A block put together from those of the two halves of `pane`."""
    if pane.rows >= pane.columns:
        middle, axis = pane.top + pane.rows // 2, 1
        halves = (
            Pane(pane.top, pane.left, middle, pane.right),
            Pane(middle, pane.left, pane.bottom, pane.right),
        )
    else:
        middle, axis = pane.left + pane.columns // 2, 2
        halves = (
            Pane(pane.top, pane.left, pane.bottom, middle),
            Pane(pane.top, middle, pane.bottom, pane.right),
        )
    blocks = [part(half) for half in halves]
    cells = np.concatenate([block.cells for block in blocks], axis=axis)
    if all(block.valid is None for block in blocks):
        return Block(cells)
    masks = [np.stack([block.valid_of(b) for b in range(cells.shape[0])]) for block in blocks]
    valid = np.concatenate(masks, axis=axis)
    shared = all(block.valid is None or block.valid.ndim == 2 for block in blocks)
    return Block(cells, valid[0] if shared else valid)


def _mask(block: Block) -> Cells:
    """Validity as the kernels want it: (0, 1 or bands, rows, columns) bytes."""
    if block.valid is None:
        return np.zeros((0, 0, 0), np.uint8)
    valid = np.ascontiguousarray(block.valid).view(np.uint8)
    return valid[None] if valid.ndim == 2 else valid


def on_frame(source: Raster, frame: Frame, method: str | Method) -> Raster:
    """`source` on `frame`: its own cells where the lattices agree, else computed by `method`.

    Raises UsageError for a name that is none.
    """
    method = parse_method(method) if isinstance(method, str) else method
    offset = source.frame.offset_to(frame)
    if offset is not None:
        return place(source, frame, *offset)
    source = source if same(source.frame.crs, frame.crs) else around(source)
    return weighing(source, method, lambda weighed: Reproject(weighed, frame, method))
