"""Which squares of a frame become chips, and which of them are for validation."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from zembrel.grid.pane import Pane

TRAIN, VALIDATION = "train", "validation"


class ChipPlace(NamedTuple):
    """A chip: its cells, and which part of the set it belongs to."""

    pane: Pane
    split: str


@dataclass(frozen=True)
class ChipGrid:
    """Squares of `cells` a side on an image of `shape` cells, row by row, that share `overlap` cells.

    The last ones end with the image. Nothing is listed: there may be very many.
    """

    shape: tuple[int, int]
    cells: int
    overlap: int

    @property
    def count(self) -> int:
        down, across = (-(-(size - self.cells) // self._step) + 1 for size in self.shape)
        return down * across

    def place(self, number: int) -> Pane:
        """The square of a number from 0."""
        last_top, last_left = (size - self.cells for size in self.shape)
        row, column = divmod(number, -(-last_left // self._step) + 1)
        top, left = min(row * self._step, last_top), min(column * self._step, last_left)
        return Pane(top, left, top + self.cells, left + self.cells)

    def drawn(self, count: int | None, seed: int) -> list[Pane]:
        """All squares, or `count` of them that chance chooses, in their order."""
        if count is None or count >= self.count:
            return [self.place(number) for number in range(self.count)]
        chosen = np.random.default_rng(seed).choice(self.count, count, replace=False, shuffle=False)
        return [self.place(number) for number in sorted(chosen.tolist())]

    @property
    def _step(self) -> int:
        return self.cells - self.overlap


def split_by_ground(panes: Sequence[Pane], share: float, block: int, seed: int) -> list[ChipPlace]:
    """Chips by blocks of `block` cells: whole blocks are for validation, as many as make up `share` of all.

    Chips for training that reach into such a block are left out, so that no cell is seen in both.
    """
    if share <= 0:
        return [ChipPlace(pane, TRAIN) for pane in panes]
    owners = [_block_at((p.top + p.bottom) // 2, (p.left + p.right) // 2, block) for p in panes]
    sizes = Counter(owners)
    blocks = sorted(sizes)
    order = np.random.default_rng(seed).permutation(len(blocks)).tolist()
    wanted, taken, held = share * len(panes), 0, set[tuple[int, int]]()
    for n in order:
        if taken >= wanted:
            break
        held.add(blocks[n])
        taken += sizes[blocks[n]]
    made = []
    cells = [pane for pane, owner in zip(panes, owners, strict=True) if owner in held]
    grid = _Covered(cells, block)
    for pane, owner in zip(panes, owners, strict=True):
        if owner in held:
            made.append(ChipPlace(pane, VALIDATION))
        elif not grid.meets(pane):
            made.append(ChipPlace(pane, TRAIN))
    return made


def _block_at(row: int, column: int, block: int) -> tuple[int, int]:
    return row // block, column // block


class _Covered:
    """The cells of some panes, looked up by blocks."""

    def __init__(self, panes: Sequence[Pane], block: int) -> None:
        self._block = block
        self._held: dict[tuple[int, int], list[Pane]] = {}
        for pane in panes:
            for key in self._keys(pane):
                self._held.setdefault(key, []).append(pane)

    def meets(self, pane: Pane) -> bool:
        return any(
            other.meet(pane) is not None for key in self._keys(pane) for other in self._held.get(key, ())
        )

    def _keys(self, pane: Pane) -> list[tuple[int, int]]:
        rows = range(pane.top // self._block, (pane.bottom - 1) // self._block + 1)
        columns = range(pane.left // self._block, (pane.right - 1) // self._block + 1)
        return [(row, column) for row in rows for column in columns]


def balanced(shares: Sequence[Mapping[int, float]], count: int | None, seed: int) -> list[int]:
    """Numbers of the chips that are drawn, so that classes are about equally frequent.

    shares: of each chip, how much of it each class has. A chip counts for the class that it has most more of
    than all chips together; classes take turns in drawing from their chips.
    """
    classes = sorted({code for share in shares for code in share})
    whole = {code: sum(share.get(code, 0.0) for share in shares) for code in classes}
    groups: dict[int, list[int]] = {code: [] for code in classes}
    for number, share in enumerate(shares):
        if share:
            groups[max(share, key=lambda code: (share[code] / whole[code], -code))].append(number)
    chance = np.random.default_rng(seed)
    queues = [chance.permutation(held).tolist() for held in groups.values() if held]
    most = count if count is not None else len(queues) * min(map(len, queues), default=0)
    drawn: list[int] = []
    while len(drawn) < most and any(queues):
        for queue in queues:
            if queue and len(drawn) < most:
                drawn.append(queue.pop())
    return sorted(drawn)
