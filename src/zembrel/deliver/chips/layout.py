"""Which squares of a frame become chips, and which of them are for validation."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import NamedTuple

import numpy as np

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane

TRAIN, VALIDATION = "train", "validation"


class ChipPlace(NamedTuple):
    """A chip: its cells, and which part of the set it belongs to."""

    pane: Pane
    split: str


def places_of(frame: Frame, cells: int, overlap: int) -> list[Pane]:
    """Squares of `cells` a side, row by row, that share `overlap` cells; the last ones end with the frame."""
    rows, columns = (_starts(size, cells, cells - overlap) for size in frame.pane.shape)
    return [Pane(row, column, row + cells, column + cells) for row in rows for column in columns]


def _starts(size: int, cells: int, step: int) -> list[int]:
    starts = list(range(0, size - cells + 1, step))
    return starts if starts[-1] == size - cells else [*starts, size - cells]


def split_by_ground(panes: Sequence[Pane], share: float, block: int, seed: int) -> list[ChipPlace]:
    """Chips by blocks of `block` cells: whole blocks are for validation, as many as make up `share` of all.

    Chips for training that reach into such a block are left out, so that no cell is seen in both.
    """
    if share <= 0:
        return [ChipPlace(pane, TRAIN) for pane in panes]
    owners = [_block_at((p.top + p.bottom) // 2, (p.left + p.right) // 2, block) for p in panes]
    blocks = sorted(set(owners))
    order = np.random.default_rng(seed).permutation(len(blocks)).tolist()
    wanted, taken, held = share * len(panes), 0, set[tuple[int, int]]()
    for n in order:
        if taken >= wanted:
            break
        held.add(blocks[n])
        taken += owners.count(blocks[n])
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
