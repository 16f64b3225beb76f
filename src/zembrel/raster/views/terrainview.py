"""Bands that are made of the heights around each cell."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np

from zembrel.grid.frame import Array, Frame
from zembrel.grid.pane import Pane
from zembrel.raster import kernels
from zembrel.raster.model import Band, Block, Raster, nothing
from zembrel.raster.terrain import ALL, Halo, Measure, Near, bands_of, joined_halo

_STRIP = 32  # rows at a time, which stay in the processor's cache


@dataclass(frozen=True, eq=False)
class Terrain:
    """Measures of the first band of `source`, whose values are heights.

    scales: (rows, 2) metres on the ground in a unit of the CRS along x and y, in each row of the frame;
    metres: of a unit of the heights. A cell is valid where its height is; one beside which nothing lies along
    an axis has no gradient, and so neither slope, aspect nor light.
    """

    source: Raster
    measures: tuple[Measure, ...]
    scales: Array
    metres: float = 1.0

    @property
    def frame(self) -> Frame:
        return self.source.frame

    @cached_property
    def bands(self) -> tuple[Band, ...]:
        return bands_of(self.measures)

    @cached_property
    def _halo(self) -> Halo:
        return joined_halo(self.measures)

    @cached_property
    def axes(self) -> Array:
        """(rows, 4) what takes differences along columns and rows to slopes towards east and north."""
        affine = self.frame.affine
        size = affine.x_col * affine.y_row - affine.x_row * affine.y_col
        flat = np.array([affine.y_row, -affine.y_col, -affine.x_row, affine.x_col]) / size * self.metres
        return np.asarray(flat / self.scales[:, [0, 0, 1, 1]])

    def cells(self, pane: Pane) -> Block:
        up, left, down, right = self._halo
        wide = Pane(pane.top - up, pane.left - left, pane.bottom + down, pane.right + right)
        met = wide.meet(self.frame.pane)
        assert met is not None
        block = self.source.cells(met)
        valid = ALL if block.valid is None else np.ascontiguousarray(block.valid_of(0)).view(np.uint8)
        if valid.size and not valid.any():
            return nothing(self.bands, pane.shape)
        kind = (
            np.float32 if block.cells.dtype.itemsize <= 2 or block.cells.dtype == np.float32 else np.float64
        )
        heights = np.ascontiguousarray(block.cells[0], kind)
        made = np.empty((len(self.measures), *pane.shape), self.bands[0].dtype)
        ok = np.empty(made.shape, np.uint8)
        casting = any(measure.casting for measure in self.measures)
        tops = kernels.horizon.tops(heights, valid) if casting else np.zeros((0, 0))
        room = _Room.of(pane.columns)  # one for all strips: new ones would cost as much as the work
        for strip in pane.blocks(_STRIP, pane.columns):
            rows, _ = strip.within(pane)
            self._fill(_Wide(heights, valid, tops, met), strip, room.part(strip), made[:, rows], ok[:, rows])
        return Block(made) if ok.all() else Block(made, ok.view(bool))

    def _fill(self, wide: _Wide, strip: Pane, room: _Room, made: Any, ok: Any) -> None:
        """The rows of `strip`."""
        heights, valid, tops, met = wide
        top, left, axes = strip.top - met.top, strip.left - met.left, self.axes[strip.top : strip.bottom]
        if any(measure.sloping for measure in self.measures):
            kernels.terrain.gradients(heights, valid, top, left, axes, room.east, room.north, room.known)
        gradients = room.east, room.north, room.known
        near = Near(heights, valid, top, left, strip, axes, self.metres, tops, *gradients)
        here = valid[top : top + strip.rows, left : left + strip.columns] if valid.size else 1
        for measure, out, sure in zip(self.measures, made, ok, strict=True):
            sure[...] = room.known if measure.sloping else here
            if made.dtype == np.uint8:
                measure.fill(near, room.light, sure)
                np.rint(room.light, out=room.light)
                np.copyto(out, room.light, casting="unsafe")
            else:
                measure.fill(near, out, sure)


class _Wide(NamedTuple):
    """Heights, validity and the highest of squares of a pane that holds others and what lies around them."""

    heights: Any
    valid: Any
    tops: Array
    met: Pane


class _Room(NamedTuple):
    """Arrays for what is made of a strip on the way."""

    east: Array
    north: Array
    known: Any
    light: Array

    @classmethod
    def of(cls, columns: int) -> _Room:
        """Of strips of so many columns."""
        shape = _STRIP, columns
        return cls(np.empty(shape), np.empty(shape), np.empty(shape, np.uint8), np.empty(shape))

    def part(self, strip: Pane) -> _Room:
        """For a strip of fewer rows."""
        return _Room(*(array[: strip.rows] for array in self))
