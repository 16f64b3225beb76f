"""From the cells of one frame to positions in another, exact to a small part of a cell.

Exact coordinates are computed at the nodes of patches that are anchored to the target frame, and
interpolated between them. A patch whose midpoints miss by TOLERANCE is cut into smaller ones, down
to single cells. Because patches belong to the frame, any split of it gives the same positions.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.errors import InputError
from zembrel.geodesy.crs import same
from zembrel.geodesy.operation import CoordinateOperation
from zembrel.grid.extent import operation_of
from zembrel.grid.frame import Array, Frame
from zembrel.grid.pane import Pane
from zembrel.raster import kernels

SIDE = 64  # cells of the largest patch
TOLERANCE = 0.05  # cells; measured at midpoints, then quartered by interpolating between those too
_PROBES = 33  # places along each side of the frame where the scale is looked at
_SEAM = 1e-6  # cells by which rounding may miss the edge that a grid around the Earth begins with
_CUT = 4  # a patch that misses is cut into 4 x 4
_SMALLEST = 4  # cells of a patch; smaller ones are done cell by cell
Integers = npt.NDArray[np.int64]


class Scales(NamedTuple):
    """Source cells per target cell along x and y, for patches of SIDE cells.

    steps: (2, patch rows, patch columns); the first patch begins `lead_r` rows and `lead_c` columns
    before the pane.
    """

    steps: Array
    lead_r: int
    lead_c: int


class Patches(NamedTuple):
    """Square patches of `side` cells: their first cells, and exact positions (2, n, 3, 3) at their nodes."""

    side: int
    tops: Integers
    lefts: Integers
    nodes: Array


class Alone(NamedTuple):
    """Cells that no patch serves, and their exact positions, (n,) each."""

    rows: Integers
    columns: Integers
    u: Array
    v: Array


class Lattice(NamedTuple):
    """Positions of the cells of a pane, held at the nodes of patches."""

    patches: list[Patches]
    alone: Alone | None

    def positions(self, part: Pane) -> tuple[Array, Array]:
        """u and v of every cell of `part`, which the pane holds, (rows, columns); NaN for nowhere."""

        u, v = np.empty(part.shape), np.empty(part.shape)
        for side, tops, lefts, nodes in self.patches:
            kernels.patches.fill(u, v, part.top, part.left, tops, lefts, side, nodes)
        if self.alone is not None:
            rows, columns = self.alone.rows - part.top, self.alone.columns - part.left
            here = (rows >= 0) & (rows < part.rows) & (columns >= 0) & (columns < part.columns)
            u[rows[here], columns[here]], v[rows[here], columns[here]] = (
                self.alone.u[here],
                self.alone.v[here],
            )
        return u, v

    def reach(self, part: Pane, halo: tuple[int, int], area: Pane) -> Pane | None:
        """The cells of `area` within `halo` (along x, y) of the positions of `part`, or None."""

        found = np.array([math.inf, -math.inf, math.inf, -math.inf])
        bounds = part.top, part.left, part.bottom, part.right
        limits = area.right, area.bottom, *halo
        for side, tops, lefts, nodes in self.patches:
            kernels.patches.reach(bounds, tops, lefts, side, nodes, limits, found)
        if self.alone is not None:
            rows, columns, u, v = self.alone
            here = (rows >= part.top) & (rows < part.bottom) & (columns >= part.left) & (columns < part.right)
            kernels.patches.reach_alone(u[here], v[here], limits, found)
        if found[0] > found[1]:
            return None
        return reached(found[:2], found[2:], halo).meet(area)


def reached(u: Array, v: Array, halo: tuple[int, int]) -> Pane:
    """The cells within `halo` (along x, y) of positions u, v."""
    return Pane(
        math.floor(v.min()) - halo[1],
        math.floor(u.min()) - halo[0],
        math.floor(v.max()) + 1 + halo[1],
        math.floor(u.max()) + 1 + halo[0],
    )


@dataclass(frozen=True)
class CoordinateMap:
    """Positions in `source` of the cells of `target`; frames without a CRS share one plane."""

    target: Frame
    source: Frame

    def __post_init__(self) -> None:
        missing = [f for f in (self.target, self.source) if f.crs is None]
        if len(missing) == 1:
            raise InputError(
                "a layer has no coordinate reference system",
                "its place in another CRS is unknown",
                "add --from-crs if you know what it is in",
            )

    @cached_property
    def operation(self) -> CoordinateOperation | None:
        """From target to source, or None if both are in one CRS."""
        if self.target.crs is None or self.source.crs is None or same(self.target.crs, self.source.crs):
            return None
        return operation_of(self.source, self.target.crs).inverse

    @cached_property
    def parallel(self) -> bool:
        """Whether rows and columns of both frames run alike, so that each axis stands alone."""
        frames = (self.target, self.source)
        return self.operation is None and all(f.affine.x_row == 0 == f.affine.y_col for f in frames)

    @cached_property
    def _turn(self) -> float | None:
        """Source columns once around the Earth, where that has a meaning."""
        crs = self.source.crs
        if self.operation is None or crs is None or crs.circuit is None or not self.source.north_up:
            return None
        return crs.circuit.turn / self.source.cell[0]

    def exact(self, cols: Array, rows: Array) -> tuple[Array, Array]:
        """Source positions u (along columns) and v of the middles of target cells, one by one."""
        x, y = self.target.centres(cols, rows)
        if self.operation is not None:
            x, y = self.operation(x, y)
        u, v = self.source.corners.position(x, y)
        if self._turn is not None:
            middle = self.source.columns / 2
            u = middle + np.mod(u - middle + self._turn / 2, self._turn) - self._turn / 2
            u = np.where((u < 0) & (u > -_SEAM), 0.0, u)
        return np.asarray(u), np.asarray(v)

    def axes(self, pane: Pane) -> tuple[Array, Array]:
        """u of each column and v of each row of `pane`, for parallel frames."""
        zero = np.zeros(1)
        u, _ = self.exact(np.arange(pane.left, pane.right, dtype=float), zero)
        _, v = self.exact(zero, np.arange(pane.top, pane.bottom, dtype=float))
        return u, v

    def lattice(self, pane: Pane) -> Lattice:
        """Positions of the cells of `pane`, ready to be filled in."""
        pieces, alone = [], None
        tops, lefts = _patches(pane, SIDE)
        side = SIDE
        while tops.size:
            if side < _SMALLEST:
                alone = self._alone(pane, tops, lefts, side)
                break
            nodes = self._nodes(tops, lefts, side)
            good = _misses(nodes) <= TOLERANCE
            if good.any():
                pieces.append(Patches(side, tops[good], lefts[good], nodes[:, good]))
            tops, lefts = _cut(tops[~good], lefts[~good], side, pane)
            side //= _CUT
        return Lattice(pieces, alone)

    def _nodes(self, tops: Integers, lefts: Integers, side: int) -> Array:
        """Exact positions at 3 x 3 nodes of each patch, (2, patches, 3, 3)."""
        step = np.array([0, side // 2, side])
        rows = np.broadcast_to(tops[:, None, None] + step[:, None], (tops.size, 3, 3))
        cols = np.broadcast_to(lefts[:, None, None] + step[None, :], (tops.size, 3, 3))
        return np.stack(self.exact(cols.astype(float), rows.astype(float)))

    def _alone(self, pane: Pane, tops: Integers, lefts: Integers, side: int) -> Alone:
        step = np.arange(side)
        rows = (tops[:, None, None] + step[:, None] + 0 * step).ravel()
        cols = (lefts[:, None, None] + 0 * step[:, None] + step).ravel()
        inside = (rows >= pane.top) & (rows < pane.bottom) & (cols >= pane.left) & (cols < pane.right)
        rows, cols = rows[inside], cols[inside]
        return Alone(rows, cols, *self.exact(cols.astype(float), rows.astype(float)))

    def scales(self, pane: Pane) -> Scales:
        """Source cells per target cell at the middles of the patches of SIDE cells that touch `pane`."""
        lead_r, lead_c = pane.top % SIDE, pane.left % SIDE
        rows: Array = np.arange(pane.top - lead_r, pane.bottom, SIDE).astype(np.float64) + SIDE / 2
        cols: Array = np.arange(pane.left - lead_c, pane.right, SIDE).astype(np.float64) + SIDE / 2
        return Scales(self._scale_at(cols, rows), lead_r, lead_c)

    @cached_property
    def largest_scale(self) -> float:
        """The largest number of source cells per target cell, along x or y, at places all over the frame."""
        cols, rows = (
            np.linspace(0.0, n - 1.0, _PROBES, dtype=np.float64)
            for n in (self.target.columns, self.target.rows)
        )
        return float(self._scale_at(cols, rows).max())

    def _scale_at(self, cols: Array, rows: Array) -> Array:
        col, row = (grid.astype(float) for grid in np.meshgrid(cols, rows))
        u0, v0 = self.exact(col, row)
        u1, v1 = self.exact(col + 1, row)
        u2, v2 = self.exact(col, row + 1)
        across, down = u1 - u0, u2 - u0
        if self._turn is not None:
            across, down = (d - self._turn * np.round(d / self._turn) for d in (across, down))
        scale = np.stack([np.hypot(across, down), np.hypot(v1 - v0, v2 - v0)])
        return np.where(np.isfinite(scale), scale, 1.0)


def _patches(pane: Pane, side: int) -> tuple[Integers, Integers]:
    tops = np.arange(pane.top // side * side, pane.bottom, side)
    lefts = np.arange(pane.left // side * side, pane.right, side)
    return np.repeat(tops, lefts.size), np.tile(lefts, tops.size)


def _cut(tops: Integers, lefts: Integers, side: int, pane: Pane) -> tuple[Integers, Integers]:
    """The patches of side / _CUT in the given ones that touch `pane`."""
    small = side // _CUT
    step = np.arange(_CUT) * small
    rows = (tops[:, None, None] + step[:, None] + 0 * step).ravel()
    cols = (lefts[:, None, None] + 0 * step[:, None] + step).ravel()
    touching = (
        (rows + small > pane.top) & (rows < pane.bottom) & (cols + small > pane.left) & (cols < pane.right)
    )
    return rows[touching], cols[touching]


def _misses(nodes: Array) -> Array:
    """Largest distance, in source cells, between exact midpoints and those between the corners."""
    corners = nodes[:, :, ::2, ::2]
    guess = np.empty_like(nodes)
    guess[:, :, ::2, ::2] = corners
    guess[:, :, ::2, 1] = corners.mean(axis=3)
    guess[:, :, 1, ::2] = corners.mean(axis=2)
    guess[:, :, 1, 1] = corners.mean(axis=(2, 3))
    miss = np.abs(nodes - guess).max(axis=(0, 2, 3))
    return np.where(np.isfinite(miss), miss, np.inf)
