"""Points read for a grid, as often as they are asked for, and counted."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from zembrel.engine.limits import Limits
from zembrel.engine.points import Piece, over_pieces, pieces_of
from zembrel.facts import Fact
from zembrel.points.gridding.tallied import Bounds
from zembrel.points.model import PointBlock
from zembrel.points.picking import Inside, Picking
from zembrel.results.clouds import Sieve
from zembrel.results.mergedclouds import Merged

_GROUND, _NOISE = 2, (7, 18)  # classes


@dataclass
class Counted:
    """Points that were read, and those of them that went into cells."""

    read: int = 0
    used: int = 0
    ground: int = 0
    outside: int = 0  # of the frame, where that is what the files say of their extent
    chose: list[Fact] = field(default_factory=list)


@dataclass(frozen=True, eq=False)
class _Taken:
    """The task of reading a piece: how many points it has, and those that go on, in the common CRS."""

    whole: Merged
    sieve: Sieve
    values: frozenset[str]

    def __call__(self, piece: Piece) -> tuple[int, PointBlock | None]:
        block = self.sieve.kept(piece, self.values)
        return piece.part.points, None if block is None else self.whole.brought(block, piece)


@dataclass(frozen=True, eq=False)
class Points:
    """A way to the points of clouds that may lie within bounds, in order.

    extent: beyond which points are counted, if that is what the files say of themselves.
    """

    whole: Merged
    picked: Picking
    values: frozenset[str]
    counted: Counted
    limits: Limits
    extent: Bounds | None = None

    def __call__(self, bounds: Bounds) -> Iterator[PointBlock]:
        near = Inside(bounds)
        plain = all(move is None for move in self.whole.moves)
        pieces = [p for p in pieces_of(self.whole.sources) if not plain or near.meets(p.part.bounds)]
        task = _Taken(self.whole, Sieve(None, self.picked), self.values)
        for points, block in over_pieces(pieces, task, self.limits):
            self.counted.read += points
            if block is not None and len(block):
                self.counted.used += len(block)
                self.counted.outside += _outside(block, self.extent) if self.extent is not None else 0
                yield block

    def __getstate__(self) -> dict[str, Any]:
        """For another process, which works alone and counts for nobody."""
        return vars(self) | {"counted": Counted(), "limits": Limits(self.limits.memory, 1)}


def _outside(block: PointBlock, bounds: Bounds) -> int:
    """Points beyond bounds; as a rule the ends of a block tell that there is none."""
    west, south, east, north = bounds
    low_x, low_y, _, high_x, high_y, _ = block.bounds()
    if low_x >= west and high_x <= east and low_y >= south and high_y <= north:
        return 0
    x, y = block.x, block.y
    return int(np.count_nonzero((x < west) | (x > east) | (y < south) | (y > north)))


def needs_of(values: dict[str, Any]) -> set[str]:
    return {"class" if name == "ground" else name for name in values if name != "first"}


def named_value(name: str) -> Callable[[PointBlock], Any]:
    return lambda block: block.values(name)


def is_ground(block: PointBlock) -> Any:
    return block.values("class") == _GROUND


def is_first(block: PointBlock) -> Any:
    return (block.values("return") <= 1) & ~np.isin(block.values("class"), _NOISE)
