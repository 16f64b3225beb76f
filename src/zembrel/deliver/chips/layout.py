"""Which squares of a frame become chips, and which of them are for validation."""

from __future__ import annotations

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
