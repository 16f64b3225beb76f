"""The values of given ranks among all valid cells, exactly and in bounded memory.

Cells are counted by the first bits of a key that sorts as they do, then by the next bits of those alone among
which a wanted rank lies, until all bits are known (radix selection: D. E. Knuth, "The Art of Computer
Programming" 3, 1998, section 5.2.5).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt

from zembrel.grid.pane import Pane
from zembrel.raster.model import Block

Keys = npt.NDArray[np.uint64]
Counts = npt.NDArray[np.int64]
_FIRST = 16  # bits that are looked at first
_ROOM = 1 << 22  # counts that are held


def keys_of(values: npt.NDArray[Any]) -> Keys:
    """Whole numbers that sort as the values do; of floats and whole numbers of up to 64 bits."""
    bits = 8 * values.dtype.itemsize
    held = np.ascontiguousarray(values)
    if values.dtype.kind == "f":
        held = held + values.dtype.type(0)  # one zero
        raw = held.view(f"u{values.dtype.itemsize}").astype(np.uint64)
        top = np.uint64(1 << (bits - 1))
        flipped = np.where(raw & top, ~raw & np.uint64((1 << bits) - 1), raw | top)
        return np.asarray(flipped, np.uint64)
    if values.dtype.kind == "i":
        raw = held.view(f"u{values.dtype.itemsize}").astype(np.uint64)
        return np.asarray(raw ^ np.uint64(1 << (bits - 1)), np.uint64)
    return held.astype(np.uint64)


def value_of(key: int, kind: np.dtype[Any]) -> Any:
    """The value that has a key."""
    bits = 8 * kind.itemsize
    if kind.kind == "f":
        top = 1 << (bits - 1)
        raw = key ^ top if key & top else ~key & ((1 << bits) - 1)
        return float(np.array([raw], np.uint64).astype(f"u{kind.itemsize}").view(kind)[0])
    return key - (1 << (bits - 1)) if kind.kind == "i" else key


@dataclass
class KeyCounts:
    """An observer: how many cells have each of the next bits of their key, behind the known beginnings.

    known: beginnings in their order; rest: bits behind those that are looked at; bits: how many these are.
    """

    kind: np.dtype[Any]
    known: Keys
    rest: int
    bits: int
    counts: Counts = field(init=False)

    def __post_init__(self) -> None:
        self.counts = np.zeros(self.known.size << self.bits, np.int64)

    def look(self, pane: Pane, block: Block) -> tuple[Counts, Counts]:
        keys = keys_of(block.values.astype(self.kind, copy=False)) >> np.uint64(self.rest)
        begun = keys >> np.uint64(self.bits)
        at = np.minimum(np.searchsorted(self.known, begun), self.known.size - 1)
        mine = self.known[at] == begun
        low = keys[mine] & np.uint64((1 << self.bits) - 1)
        codes = (at[mine] << self.bits) + low.astype(np.int64)
        if self.counts.size > 1 << _FIRST:
            places, counts = np.unique(codes, return_counts=True)
            return places, counts
        found = np.bincount(codes, minlength=1)
        return np.flatnonzero(found), found[found > 0]

    def note(self, seen: tuple[Counts, Counts]) -> None:
        places, counts = seen
        self.counts[places] += counts


def at_ranks(show: Callable[[KeyCounts], None], kind: np.dtype[Any], ranks: Sequence[int]) -> dict[int, Any]:
    """The value of each rank, from 0. show: shows all cells to an observer; kind: a type that holds them."""
    left = 8 * kind.itemsize
    begun: dict[int, int] = dict.fromkeys(ranks, 0)  # the beginning of the key at a rank
    before: dict[int, int] = dict.fromkeys([0], 0)  # cells of lower keys, by beginning
    while left:
        known = np.array(sorted(set(begun.values())), np.uint64)
        bits = min(left, _FIRST if known.size == 1 else int(np.log2(_ROOM / known.size)))
        left -= bits
        counted = KeyCounts(kind, known, left, bits)
        show(counted)
        sums = np.cumsum(counted.counts.reshape(known.size, -1), axis=1)
        places = {int(key): n for n, key in enumerate(known)}
        following, lower = dict[int, int](), dict[int, int]()
        for rank, beginning in begun.items():
            row, base = sums[places[beginning]], before[beginning]
            next_bits = int(np.searchsorted(row, rank - base, side="right"))
            following[rank] = (beginning << bits) | next_bits
            lower[following[rank]] = base + (int(row[next_bits - 1]) if next_bits else 0)
        begun, before = following, lower
    return {rank: value_of(key, kind) for rank, key in begun.items()}


def quantiles_of(
    show: Callable[[KeyCounts], None], kind: np.dtype[Any], count: int, shares: Sequence[float]
) -> list[float]:
    """The quantiles of some shares of `count` cells, as NumPy's `linear` has them."""
    places = [share * (count - 1) for share in shares]
    ends = [(int(place), min(int(place) + 1, count - 1)) for place in places]
    held = at_ranks(show, kind, sorted({rank for pair in ends for rank in pair}))
    return [
        float(held[low] + (held[high] - held[low]) * (place - low))
        for place, (low, high) in zip(places, ends, strict=True)
    ]
