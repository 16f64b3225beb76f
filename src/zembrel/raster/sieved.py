"""Small regions of equal cells joined to their largest neighbours.

Three sweeps over the rows label them alike: one for sizes, one for who touches whom, one for the result.
"""

from __future__ import annotations

import heapq
from collections import defaultdict
from collections.abc import Callable, Iterator
from typing import Any

import numpy as np
import numpy.typing as npt

from zembrel.raster.kernels import regions as kernel
from zembrel.raster.model import Cells, Mask

Integers = npt.NDArray[np.int64]
Labels = npt.NDArray[np.int32]
Strips = Callable[[], Iterator[tuple[Cells, Mask | None]]]  # the rows from the first, each time it is called


class RegionLabels:
    """Labels of regions, row by row; those that turn out to be one keep their own until `roots` tells."""

    def __init__(self, width: int, diagonal: bool) -> None:
        self._diagonal, self._count = diagonal, 0
        self._above = np.array([0, width]), np.zeros(2, np.int64), np.full(2, kernel.NONE)
        self._regions = tuple(np.empty(0, np.int64) for _ in range(3))

    def strip(self, cells: Cells, known: Mask | None) -> Labels:
        """Labels of the next rows, like cells; -1 where nothing is known."""
        whole = np.zeros((0, 0), bool) if known is None else np.ascontiguousarray(known)
        held = np.ascontiguousarray(cells, np.uint8 if cells.dtype == np.uint8 else np.int64)
        room = self._count + int(kernel.count_runs(held, whole))
        if room > self._regions[0].size:
            self._regions = tuple(np.resize(part, room * 3 // 2) for part in self._regions)
        labels = np.empty(cells.shape, np.int32)
        self._count, n, above = kernel.label_rows(
            held,
            whole,
            self._diagonal,
            self._above,
            len(self._above[0]) - 1,
            self._regions,
            self._count,
            labels,
        )
        self._above = tuple(part[: n + 1].copy() for part in above)
        self._above[2][n] = kernel.NONE
        return labels

    def settled(self) -> tuple[Integers, Integers, Integers]:
        """The label that stands for each, and of those the cells and values."""
        roots, counts, values = (part[: self._count] for part in self._regions)
        kernel.settle(roots)
        return roots, np.bincount(roots, counts, roots.size).astype(np.int64), values


def sieved(
    strips: Strips, width: int, least: int, *, diagonal: bool
) -> tuple[Iterator[tuple[Cells, Any]], int, int]:
    """The strips with regions of fewer than `least` cells given to their largest neighbours, smallest first.

    Also how many regions are gone, and how many stay small because nothing known touches them.
    """
    first = RegionLabels(width, diagonal)
    for cells, known in strips():
        first.strip(cells, known)
    roots, sizes, values = first.settled()
    small = (sizes > 0) & (sizes < least) & (roots == np.arange(roots.size))
    target = _joined(sizes, small, _touching(strips, width, diagonal, roots, small), least)
    final = values[target[roots]]
    gone = int(np.sum(target[small] != np.flatnonzero(small)))
    joined = np.bincount(target[roots], sizes, roots.size)
    left = int(np.sum((joined > 0) & (joined < least)))

    def result() -> Iterator[tuple[Cells, Any]]:
        again = RegionLabels(width, diagonal)
        for cells, known in strips():
            labels = again.strip(cells, known)
            yield (final[labels] if final.size else cells).astype(cells.dtype), known

    return result(), gone, left


def _touching(
    strips: Strips, width: int, diagonal: bool, roots: Integers, small: Mask
) -> dict[int, set[int]]:
    """The regions that share an edge with each small one, or a corner if `diagonal`."""
    again, found = RegionLabels(width, diagonal), defaultdict(set)
    last = np.full((1, width), kernel.NONE, np.int64)
    for cells, known in strips():
        labels = again.strip(cells, known).astype(np.int64)
        here = np.vstack([last, np.where(labels >= 0, roots[labels], kernel.NONE) if roots.size else labels])
        last = here[-1:]
        pairs = [(here[1:, :-1], here[1:, 1:]), (here[:-1], here[1:])]
        if diagonal:
            pairs += [(here[:-1, :-1], here[1:, 1:]), (here[:-1, 1:], here[1:, :-1])]
        for one, other in pairs:
            differ = (one != other) & (one >= 0) & (other >= 0)
            a, b = one[differ], other[differ]
            kept = small[a] | small[b]
            codes = np.unique(a[kept] * roots.size + b[kept])
            for x, y in zip((codes // roots.size).tolist(), (codes % roots.size).tolist(), strict=True):
                found[x].add(y)
                found[y].add(x)
    return found


def _joined(sizes: Integers, small: Mask, touching: dict[int, set[int]], least: int) -> Integers:
    """Which region each goes to in the end."""
    parents = np.arange(sizes.size)
    sizes = sizes.copy()

    def root(region: int) -> int:
        while parents[region] != region:
            parents[region] = parents[parents[region]]
            region = int(parents[region])
        return region

    waiting = [(int(sizes[region]), region) for region in np.flatnonzero(small).tolist()]
    heapq.heapify(waiting)
    while waiting:
        size, region = heapq.heappop(waiting)
        if root(region) != region or sizes[region] != size:
            continue
        around = {root(other) for other in touching[region]} - {region}
        if not around:
            continue
        largest = max(around, key=lambda other: (sizes[other], -other))
        parents[region] = largest
        sizes[largest] += size
        if sizes[largest] < least:
            touching[largest] |= touching[region]
            heapq.heappush(waiting, (int(sizes[largest]), largest))
    return np.array([root(region) for region in range(sizes.size)], np.int64) if sizes.size else parents
