"""Values of a raster at points anywhere on it."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.grid.pane import Pane
from zembrel.raster.kernels import warp, windowed
from zembrel.raster.kernels.arguments import Finish, Into, Sampled
from zembrel.raster.kernels.weights import phase_table
from zembrel.raster.method import NEED, Method
from zembrel.raster.model import Block, Raster
from zembrel.raster.views.around import around, on_turn
from zembrel.statistics import STATISTICS

Array = npt.NDArray[np.float64]
Mask = npt.NDArray[np.bool_]
_TILE = 512  # cells a side of what is read at a time


class Places(NamedTuple):
    """Points that lie near each other: their numbers (n,), columns and rows (n,), reaches in cells (2, n),
    and the pane that is needed for them."""

    numbers: npt.NDArray[np.int64]
    u: Array
    v: Array
    reaches: Array
    pane: Pane


def values_at(
    source: Raster, x: Array, y: Array, method: Method, reach: Array | None = None, over: Any = map
) -> tuple[Array, Mask]:
    """Values (bands, n) at points in the CRS of `source`, and which are known.

    over: what applies a task to places in their order, as `map` does.
    """
    source = around(source)
    places = _places_of(source, x, y, method, reach)
    out, known = np.zeros((len(source.bands), x.size)), np.zeros((len(source.bands), x.size), bool)
    for part, (values, ok) in zip(places, over(ValuesAt(source, method), places), strict=True):
        out[:, part.numbers], known[:, part.numbers] = values, ok
    return out, known


def _places_of(
    source: Raster, x: Array, y: Array, method: Method, reach: Array | None = None
) -> list[Places]:
    """The points on `source`, in whose CRS they are, by the tiles that they lie in.

    reach: (2, n) units of the CRS along x and y, for statistics.
    """
    frame = source.frame
    u, v = (np.asarray(part) for part in frame.corners.position(x, y))
    u = on_turn(frame, u)
    inside = (u >= 0) & (u < frame.columns) & (v >= 0) & (v < frame.rows)
    numbers = np.flatnonzero(inside)
    tiles = (v[numbers] // _TILE).astype(np.int64) << 32 | (u[numbers] // _TILE).astype(np.int64)
    order = np.argsort(tiles, kind="stable")
    cuts = np.flatnonzero(np.diff(tiles[order])) + 1
    reaches = (np.zeros((2, x.size)) if reach is None else reach) / np.reshape(frame.cell, (2, 1))
    halo = method.kind.radius + 1 if method.weighted else 1
    wide = [math.ceil(most) + math.ceil(halo) for most in reaches.max(axis=1, initial=0.0).tolist()]
    found = []
    for part in np.split(numbers[order], cuts) if numbers.size else []:
        left, top = int(u[part].min()) - wide[0], int(v[part].min()) - wide[1]
        right, bottom = int(u[part].max()) + wide[0] + 1, int(v[part].max()) + wide[1] + 1
        pane = Pane(top, left, bottom, right).meet(frame.pane)
        assert pane is not None
        found.append(Places(part, u[part], v[part], reaches[:, part], pane))
    return found


@dataclass(frozen=True)
class ValuesAt:
    """The task of looking up the values of `source` at some places, (bands, n), and which are known.

    nearest takes the cell a point lies in; bilinear, cubic and lanczos interpolate; a statistic takes the
    cells whose middles are within reach, or at least the cell.
    """

    source: Raster
    method: Method

    def __call__(self, places: Places) -> tuple[Array, Mask]:
        block, pane = self.source.cells(places.pane), places.pane
        pick: Callable[..., tuple[Array, Mask]] = _gathered if self.method.footprint else _interpolated
        return pick(block, places.u - pane.left, places.v - pane.top, self.method, places.reaches)


def _interpolated(block: Block, u: Array, v: Array, method: Method, reaches: Any) -> tuple[Array, Mask]:
    """By the kernels of reprojection; u and v are columns and rows of the block, middles at .5."""
    cells = np.ascontiguousarray(block.cells, np.float64)
    bands = len(cells)
    valid = np.zeros((0, 0, 0), np.uint8)
    if block.valid is not None:
        valid = np.stack([block.valid_of(n) for n in range(bands)]).astype(np.uint8)
    out, ok = np.zeros((bands, 1, u.size)), np.zeros((bands if len(valid) else 1, 1, u.size), np.uint8)
    at, finish, into = (
        Sampled(cells, valid, u[None], v[None], 0, 0),
        Finish(NEED, False, 0.0, 0.0),
        Into(out, ok, 0),
    )
    if method.name == "nearest":
        warp.nearest(at, into)
    elif method.name == "bilinear":
        warp.bilinear(at, finish, into)
    else:
        windowed.tabled(at, phase_table(method.kind.code, method.kind.radius), finish, into)
    return out[:, 0], np.broadcast_to(ok[:, 0].astype(bool), (bands, u.size))


def _gathered(block: Block, u: Array, v: Array, method: Method, reaches: Array) -> tuple[Array, Mask]:
    """Statistics of the cells around each point."""
    bands, rows, columns = block.cells.shape
    out, known = np.zeros((bands, u.size)), np.zeros((bands, u.size), bool)
    valid = [block.valid_of(n) for n in range(bands)]
    halves = np.maximum(reaches, 1e-9)
    for k, (x, y, across, along) in enumerate(
        zip(*(values.tolist() for values in (u, v, *halves)), strict=True)
    ):
        left, right = max(math.floor(x - across), 0), min(math.floor(x + across) + 1, columns)
        top, bottom = max(math.floor(y - along), 0), min(math.floor(y + along) + 1, rows)
        dx = (np.arange(left, right) + 0.5 - x) / across
        dy = (np.arange(top, bottom) + 0.5 - y) / along
        near = dx * dx + dy[:, None] ** 2 <= 1.0
        near[int(y) - top, int(x) - left] = True
        for band in range(bands):
            values = block.cells[band, top:bottom, left:right][near & valid[band][top:bottom, left:right]]
            if values.size:
                out[band, k], known[band, k] = _statistic(values, method), True
    return out, known


def _statistic(values: npt.NDArray[Any], method: Method) -> float:
    made = STATISTICS[{"mode": "majority"}.get(method.name, method.name)].of_values
    if made is None:
        raise LookupError(method.name)
    return float(made(values, method.share))
