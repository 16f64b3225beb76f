"""Regions of equal cells found strip by strip: values, sizes and outlines, as soon as each is complete.

`RegionSweep` goes over the rows and joins; `RegionOutlines` takes up what it has found.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.raster.kernels import outlines
from zembrel.raster.kernels import regions as kernel
from zembrel.raster.model import Cells, Mask

Integers = npt.NDArray[np.int64]
Corners = npt.NDArray[np.int32]
_GROWTH = 4  # corners that a vertex may make


class Found(NamedTuple):
    """Complete regions: values and numbers of cells (n,), and their outlines, region by region with the outer
    ones first.

    owners: which region each outline is of (m,); outer: whether it is no hole; order: of the outlines as they
    stand in `starts`, where the corners of each begin (m + 1,), and corners, (k, 2) column and twice the row,
    one more where others leave it.
    """

    values: Integers
    cells: Integers
    owners: Integers
    outer: Mask
    order: Integers
    starts: Integers
    corners: Corners


class Closed(NamedTuple):
    """Closed outlines: labels of their regions (m,), where their corners begin (m + 1,), twice their areas,
    negative for holes, and corners (k, 2)."""

    labels: Integers
    starts: Integers
    twice: Integers
    corners: Corners

    def picked(self, index: Integers) -> Closed:
        """Those at `index`."""
        sizes = np.diff(self.starts)[index]
        starts = np.concatenate([[0], np.cumsum(sizes)])
        corners = np.arange(starts[-1]) + np.repeat(self.starts[index] - starts[:-1], sizes)
        return Closed(self.labels[index], starts, self.twice[index], self.corners[corners])


class Swept(NamedTuple):
    """What a strip of rows has brought.

    nodes, across: corners, (n, 3) and (n,); rings: one of them and the label of each closed outline (m, 2);
    roots: the label that stands for each region (n,); renamed: what that is called from now on, or NONE for
    what is complete; values and sizes of labels.
    """

    nodes: Corners
    across: Corners
    rings: Integers
    roots: Integers
    renamed: Integers
    values: Integers
    sizes: Integers


class RegionSweep:
    """A sweep over rows of `width` cells; what it keeps is what is open at the row it has come to.

    diagonal: whether cells that meet at a corner alone are of one region; junctions: whether outlines keep
    the corners where others leave them.
    """

    def __init__(self, width: int, diagonal: bool = False, junctions: bool = False) -> None:
        self._ways, self._row = (diagonal, junctions), 0
        self._above = np.array([0, width]), np.zeros(2, np.int64), np.full(2, kernel.NONE)  # a run of nothing
        self._ends = np.full(2, kernel.NONE), np.full(2, kernel.NONE)
        self._regions = tuple(np.empty(0, np.int64) for _ in range(3))  # parents, cells and values of labels
        most = 4 * (width + 4)  # open ends
        self._ends_store = np.empty((most, 2), np.int32), np.arange(most, dtype=np.int32)
        self._tally = np.array([0, 0, most, 0])
        self._open = np.empty((0, 3), np.int32), np.empty(0, np.int32)

    @property
    def open_corners(self) -> int:
        """How many corners of outlines are kept because these are open."""
        return len(self._open[0])

    def strip(self, cells: Cells, known: Mask | None) -> Swept:
        """Take in the next rows, (rows, columns) whole numbers; known: which cells are, None for all."""
        whole = np.zeros((0, 0), bool) if known is None else np.ascontiguousarray(known)
        kind = np.uint8 if cells.dtype == np.uint8 else np.int64
        return self._swept(np.ascontiguousarray(cells, kind), whole)

    def finish(self) -> Swept:
        """Bring the regions that reach the last row."""
        width = int(self._above[0][-1])
        return self._swept(np.zeros((1, width), np.uint8), np.zeros((1, width), bool))

    def _swept(self, cells: Cells, known: Mask) -> Swept:
        runs, tally = int(kernel.count_runs(cells, known)), self._tally
        regions = tuple(np.resize(part, tally[kernel.LABELS] + runs) for part in self._regions)
        used = self.open_corners
        room = used + _GROWTH * (2 * runs + len(cells) + len(self._above[0]))
        nodes, across = np.empty((room, 3), np.int32), np.empty(room, np.int32)
        nodes[:used], across[:used] = self._open
        rings = np.empty((room // _GROWTH + 1, 2), np.int64)
        tally[[kernel.NODES, kernel.RINGS]] = used, 0
        n, above, ends = kernel.sweep(
            cells, known, self._ways, self._row, self._above, len(self._above[0]) - 1, self._ends,
            regions, tally, (*self._ends_store, nodes, across), rings,
        )  # fmt: skip
        self._row += len(cells)
        self._above = tuple(part[: n + 1].copy() for part in above)
        self._ends = tuple(part[: n + 1].copy() for part in ends)
        nodes, across = nodes[: tally[kernel.NODES]], across[: tally[kernel.NODES]]
        self._keep(nodes, across)
        return Swept(nodes, across, rings[: tally[kernel.RINGS]], *self._settled(regions))

    def _keep(self, nodes: Corners, across: Corners) -> None:
        """Keep the corners of open outlines alone."""
        tails = np.unique(self._ends[1][self._ends[1] >= 0])
        new, new_across = np.empty_like(nodes), np.empty_like(across)
        count = outlines.kept(tails, self._ends_store[0], nodes, across, new, new_across)
        self._open = new[:count].copy(), new_across[:count].copy()

    def _settled(self, regions: tuple[Any, ...]) -> tuple[Integers, ...]:
        """Keep the labels of open regions under new numbers; roots, new numbers, values and sizes of all."""
        roots, counts, values = (part[: self._tally[kernel.LABELS]] for part in regions)
        kernel.settle(roots)
        sizes = np.bincount(roots, counts, roots.size).astype(np.int64)
        labels = self._above[2]
        labels[-1] = kernel.NONE
        open_roots = np.unique(roots[labels[labels >= 0]])
        renamed = np.full(roots.size, kernel.NONE, np.int64)
        renamed[open_roots] = np.arange(open_roots.size)
        self._above = *self._above[:2], _renumbered(_renumbered(labels, roots), renamed)
        self._regions = np.arange(open_roots.size), sizes[open_roots], values[open_roots]
        self._tally[kernel.LABELS] = open_roots.size
        return roots, renamed, values, sizes


def _renumbered(values: Integers, numbers: Any) -> Integers:
    """What `numbers` call `values`; NONE stays NONE."""
    made, held = np.full(values.size, kernel.NONE, np.int64), values >= 0
    made[held] = numbers[values[held]]
    return made


@dataclass
class RegionOutlines:
    """Outlines of regions, in the order in which these are complete; those of open ones wait."""

    _waiting: list[Closed] = field(default_factory=list)

    def take(self, swept: Swept) -> Found:
        """The regions that are complete with a strip."""
        sizes, renamed = swept.sizes, swept.renamed
        is_root = swept.roots == np.arange(sizes.size)
        complete = np.flatnonzero(is_root & (renamed < 0) & (sizes > 0))
        number = np.full(sizes.size, kernel.NONE, np.int64)
        number[complete] = np.arange(complete.size)
        released = self._released(swept)
        closed, ready = self._now(swept)
        if released:
            part = _joined([*released, closed])
            before = len(part.labels) - len(closed.labels)
            ready = np.concatenate([np.arange(before), ready + before])
        else:
            part = closed
        owners, outer = number[part.labels[ready]], part.twice[ready] > 0  # rows grow downwards
        order = np.argsort(2 * owners + ~outer, kind="stable")  # regions lie on the right
        facts = swept.values[complete], sizes[complete]
        return Found(*facts, owners[order], outer[order], ready[order], part.starts, part.corners)

    def _released(self, swept: Swept) -> list[Closed]:
        """The outlines that waited for regions that are complete now."""
        waited, self._waiting, done = self._waiting, [], []
        for part in waited:
            labels = swept.roots[part.labels]
            free = swept.renamed[labels] < 0
            if free.any():
                done.append(part._replace(labels=labels).picked(np.flatnonzero(free)))
            if not free.all():
                kept = part.picked(np.flatnonzero(~free)) if free.any() else part
                self._waiting.append(kept._replace(labels=swept.renamed[labels[~free]]))
        return done

    def _now(self, swept: Swept) -> tuple[Closed, Integers]:
        """The outlines that closed in this strip, and which of them are of complete regions."""
        corners = np.empty((len(swept.nodes), 2), np.int32)
        room = len(corners) // _GROWTH + 2
        rings, starts, twice = (np.empty(room, np.int64) for _ in range(3))
        first = np.ascontiguousarray(swept.rings[:, 0])
        count = outlines.unroll(swept.nodes, swept.across, first, corners, rings, starts, twice)
        labels = swept.roots[swept.rings[rings[:count], 1]]
        closed = Closed(labels, starts[: count + 1], twice[:count], corners[: starts[count]])
        ready = swept.renamed[closed.labels] < 0
        if not ready.all():
            later = closed.picked(np.flatnonzero(~ready))
            self._waiting.append(later._replace(labels=swept.renamed[later.labels]))
        return closed, np.flatnonzero(ready)


def _joined(parts: list[Closed]) -> Closed:
    if len(parts) == 1:
        return parts[0]
    shifts = np.cumsum([0, *(len(part.corners) for part in parts)])
    starts = [part.starts[:-1] + shift for part, shift in zip(parts, shifts, strict=False)]
    labels, twice, corners = (np.concatenate([part[n] for part in parts]) for n in (0, 2, 3))
    return Closed(labels, np.concatenate([*starts, shifts[-1:]]), twice, corners)
