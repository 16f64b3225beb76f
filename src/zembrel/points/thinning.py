"""Fewer points: every nth, a random share, the best of each cell, or none closer than a distance."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from zembrel.owned import OwnedFolder, temporary
from zembrel.points import kernels
from zembrel.points.model import Array, PointBlock

Mask = npt.NDArray[np.bool_]
_BYTES_A_ROW = 32  # of a table before it is doubled: of it then, and of the places that it leads to
_WORTH = 1_000_000  # cells that are worth comparing at once
_MULTIPLIER = np.uint64(0x9E3779B97F4A7C15)
BEST: dict[str, Callable[[PointBlock, Array], Array]] = {
    "lowest": lambda block, away: block.z,
    "highest": lambda block, away: -block.z,
    "first": lambda block, away: np.zeros(len(block)),
    "central": lambda block, away: away,
    "brightest": lambda block, away: -block.values("intensity").astype(float),
}


def every(count: int, first: int, step: int) -> Mask:
    """Of points whose first has number `first`, those whose number is a multiple of `step`."""
    return np.asarray(np.arange(first, first + count) % step == 0)


def random_share(count: int, first: int, share: float, seed: int) -> Mask:
    """A share of points, by chance that belongs to the number of a point and the seed (splitmix64, Steele
    2014)."""
    with np.errstate(over="ignore"):
        mixed = (np.arange(first, first + count).astype(np.uint64) + np.uint64(seed + 1)) * _MULTIPLIER
        mixed = (mixed ^ (mixed >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
        mixed = (mixed ^ (mixed >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return (mixed ^ (mixed >> np.uint64(31))) < np.uint64(int(share * 2**64 * (1 - 2**-53)))


@dataclass(frozen=True)
class Mesh:
    """Square cells that are counted from the origin of the CRS, and a name for what is best in one.

    A point on an edge lies in the cell whose west or north edge it is.
    """

    size: float
    best: str

    def cells(self, block: PointBlock) -> tuple[npt.NDArray[np.int64], Array]:
        """Number of the cell of each point, (n,), and how good it is there: the smallest is the best."""
        east, south = block.x / self.size, -block.y / self.size
        i, j = np.floor(east), np.floor(south)
        away = np.hypot(east - i - 0.5, south - j - 0.5)
        keys = (i.astype(np.int64) << np.int64(32)) ^ (j.astype(np.int64) & np.int64(0xFFFFFFFF))
        return keys, BEST[self.best](block, away)


@dataclass
class BestOf:
    """The best point of each cell so far: sorted keys of cells, how good, and the number of the point."""

    keys: npt.NDArray[np.int64]
    good: Array
    numbers: npt.NDArray[np.int64]

    @classmethod
    def none(cls) -> BestOf:
        return cls(np.zeros(0, np.int64), np.zeros(0), np.zeros(0, np.int64))

    @classmethod
    def of(cls, mesh: Mesh, block: PointBlock, numbers: npt.NDArray[np.int64]) -> BestOf:
        """The best points of a block."""
        keys, good = mesh.cells(block)
        return cls(keys, good, numbers)._reduced()

    @classmethod
    def of_all(cls, parts: Iterable[BestOf]) -> BestOf:
        """The best points of all: as many are gathered as there are already before they are compared, so that
        each is compared a few times, however many parts there are.
        """
        best, waiting = cls.none(), list[BestOf]()
        for part in parts:
            waiting.append(part)
            if sum(len(held.keys) for held in waiting) >= max(len(best.keys), _WORTH):
                best, waiting = cls._joined([best, *waiting]), []
        return cls._joined([best, *waiting])

    @classmethod
    def _joined(cls, parts: Sequence[BestOf]) -> BestOf:
        return cls(
            np.concatenate([part.keys for part in parts]),
            np.concatenate([part.good for part in parts]),
            np.concatenate([part.numbers for part in parts]),
        )._reduced()

    def _reduced(self) -> BestOf:
        order = np.lexsort((self.numbers, self.good, self.keys))
        keys = self.keys[order]
        first = np.ones(len(keys), bool)
        first[1:] = keys[1:] != keys[:-1]
        chosen = order[first]
        return BestOf(self.keys[chosen], self.good[chosen], self.numbers[chosen])


class Apart:
    """Points that keep a distance in space from all that were kept before; blocks have to come in order.

    memory: bytes that what is kept may take; beyond, it lies in a temporary file.
    """

    def __init__(self, distance: float, memory: int) -> None:
        self._distance, self._memory, self._count = distance, memory, 0
        self._folder: OwnedFolder | None = None
        self._table, self._places = np.full(1 << 16, kernels.spacing.EMPTY, np.int32), np.zeros((1 << 15, 3))

    def mask(self, block: PointBlock) -> Mask:
        """Which points of the next block are kept."""
        x, y, z, done = block.x, block.y, block.z, 0
        kept = np.zeros(len(block), bool)
        while done < len(block):
            rest = x[done:], y[done:], z[done:], self._distance
            step, self._count = kernels.spacing.keep_apart(
                *rest, self._table, self._places, self._count, kept[done:]
            )
            done += step
            if done < len(block):
                self._grow()
        return kept

    def _grow(self) -> None:
        rows = len(self._table)
        places = self._room("places", (rows, 3), np.float64)
        places[: rows // 2] = self._places
        self._table, self._places = self._room("table", (2 * rows,), np.int32), places
        self._table[:] = kernels.spacing.EMPTY
        kernels.spacing.entered_again(places, self._count, self._distance, self._table)

    def _room(self, name: str, shape: tuple[int, ...], kind: type) -> npt.NDArray[Any]:
        """A new array: in memory, or in a file if both together would be too large."""
        if len(self._table) * _BYTES_A_ROW <= self._memory:
            return np.empty(shape, kind)
        if self._folder is None:
            self._folder = temporary()
        return np.memmap(self._folder.path / f"{name}{shape[0]}", kind, "w+", shape=shape)
