"""An octree of points: each node holds points a certain distance apart, its children what lies between them.

A node has 128 cells along each side, and of each cell one point; the others go to the children, until what
is left is
few enough for a leaf. Cells of all levels are nested, so that parts of the cube can be built one by one.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

CELLS = 128  # along a side of a node
_LEAF = 60_000  # points of a node that has no children
_DEEPEST = 18
Places = npt.NDArray[
    np.int64
]  # (n, 3): cells of the deepest level, counted from the lower corner of the cube


class Key(NamedTuple):
    """A node: its level, and its place among those of its level."""

    level: int
    x: int
    y: int
    z: int


class Cube(NamedTuple):
    """The cube that holds all points: its lower corner and its side."""

    x: float
    y: float
    z: float
    side: float

    def places(
        self, x: npt.NDArray[np.float64], y: npt.NDArray[np.float64], z: npt.NDArray[np.float64]
    ) -> Places:
        """Cells of the deepest level that points lie in."""
        most = CELLS << _DEEPEST
        shares = [(v - low) / self.side for v, low in zip((x, y, z), self[:3], strict=True)]
        return np.stack([np.clip((s * most).astype(np.int64), 0, most - 1) for s in shares], axis=1)


def node_of(places: Places, level: int) -> Places:
    """The node of a level that each place lies in, (n, 3)."""
    return places // (CELLS << (_DEEPEST - level))


def one_per_cell(places: Places, level: int) -> npt.NDArray[np.bool_]:
    """A point of each cell of a level, always the same of the same points: that with the smallest mark."""
    cells = places >> (_DEEPEST - level)
    keys = (cells[:, 0] << np.int64(42)) ^ (cells[:, 1] << np.int64(21)) ^ cells[:, 2]
    with np.errstate(over="ignore"):
        marks = (places[:, 0] * 73856093 ^ places[:, 1] * 19349663 ^ places[:, 2] * 83492791) * np.int64(
            2654435761
        )
    order = np.lexsort((marks, keys))
    first = np.ones(len(order), bool)
    first[1:] = keys[order][1:] != keys[order][:-1]
    chosen = np.zeros(len(places), bool)
    chosen[order[first]] = True
    return chosen


def upper_nodes(places: Places, depth: int) -> tuple[dict[Key, npt.NDArray[np.int64]], npt.NDArray[np.int64]]:
    """Points that nodes above level `depth` take, by node, and the numbers of those that are left."""
    left = np.arange(len(places))
    taken: dict[Key, npt.NDArray[np.int64]] = {}
    for level in range(depth):
        chosen = one_per_cell(places[left], level)
        for key, numbers in _by_node(places, left[chosen], level):
            taken[key] = numbers
        left = left[~chosen]
    return taken, left


def subtree(
    places: Places, numbers: npt.NDArray[np.int64], level: int
) -> Iterator[tuple[Key, npt.NDArray[np.int64]]]:
    """Nodes of `level` and below, with the numbers of their points in ascending order."""
    for key, own in _by_node(places, numbers, level):
        if len(own) <= _LEAF or level == _DEEPEST:
            yield key, own
            continue
        chosen = one_per_cell(places[own], level)
        yield key, own[chosen]
        yield from subtree(places, own[~chosen], level + 1)


def _by_node(
    places: Places, numbers: npt.NDArray[np.int64], level: int
) -> Iterator[tuple[Key, npt.NDArray[np.int64]]]:
    if not len(numbers):
        return
    nodes = node_of(places[numbers], level)
    order = np.lexsort((numbers, nodes[:, 2], nodes[:, 1], nodes[:, 0]))
    ordered = nodes[order]
    new = np.flatnonzero((np.diff(ordered, axis=0) != 0).any(axis=1)) + 1
    for part in np.split(order, new):
        yield Key(level, *nodes[part[0]].tolist()), np.sort(numbers[part])
