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
_MARK = np.uint64(0xFFFFFF)  # the bits of a point's own mark
_ODD = (np.uint64(0x9E3779B97F4A7C15), np.uint64(0xC2B2AE3D27D4EB4F), np.uint64(0x165667B19E3779F9))
Places = npt.NDArray[np.int32]  # (n, 3): cells of the deepest level, from the lower corner of the cube


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
        made = np.empty((len(x), 3), np.int32)
        for axis, values in enumerate((x, y, z)):
            share = (values - self[axis]) / self.side
            made[:, axis] = np.clip(share * most, 0, most - 1)
        return made


def node_keys(places: Places, level: int) -> npt.NDArray[np.int64]:
    """A number for the node of a level that each place lies in, (n,): 18 bits for each axis."""
    nodes = (places >> (7 + _DEEPEST - level)).astype(np.int64)
    return np.asarray(nodes[:, 0] << np.int64(36) | nodes[:, 1] << np.int64(18) | nodes[:, 2])


def key_of(number: int, level: int) -> Key:
    """The node of a number."""
    return Key(level, number >> 36, number >> 18 & 0x3FFFF, number & 0x3FFFF)


def one_per_cell(places: Places, level: int) -> npt.NDArray[np.bool_]:
    """A point of each cell of a level, always the same of the same points: that with the smallest mark.

    Cells are told apart by 40 bits of a mixing function: should two share them, one of them waits for a
    child.
    """
    cells, own = (places >> (_DEEPEST - level)).astype(np.uint64), places.astype(np.uint64)
    with np.errstate(over="ignore"):
        mixed = (cells[:, 0] * _ODD[0]) ^ (cells[:, 1] * _ODD[1]) ^ (cells[:, 2] * _ODD[2])
        mixed = (mixed ^ (mixed >> np.uint64(31))) * _ODD[0]
        marks = (own[:, 0] * _ODD[1]) ^ (own[:, 1] * _ODD[2]) ^ (own[:, 2] * _ODD[0])
    keys = (mixed & ~_MARK) | (marks >> np.uint64(40))
    order = np.argsort(keys)
    groups = keys[order] & ~_MARK
    first = np.ones(len(order), bool)
    first[1:] = groups[1:] != groups[:-1]
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
    keys = node_keys(places[numbers], level)
    order = np.argsort(keys)
    for part in np.split(order, np.flatnonzero(np.diff(keys[order])) + 1):
        yield key_of(int(keys[part[0]]), level), np.sort(numbers[part])
