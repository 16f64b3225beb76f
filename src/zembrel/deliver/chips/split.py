"""Which chips are for training and which for validation, by whole blocks of ground: no cell is in both."""

from __future__ import annotations

import itertools
from collections.abc import Sequence

import numpy as np

from zembrel.deliver.chips.layout import TRAIN, VALIDATION, ChipPlace
from zembrel.grid.pane import Pane
from zembrel.scipypart import scipy

_Block = tuple[int, int]
_PAIRED = 48  # blocks of which two are changed together


def split_by_ground(panes: Sequence[Pane], share: float, block: int, seed: int) -> list[ChipPlace]:
    """Chips, all of one size, by blocks of `block` cells.

    Those are for validation whose middles lie in blocks, at least one, that bring it closest to `share` of
    all chips; blocks are tried in an order that chance chooses.

    Chips for training that reach into one of these are left out, so that no cell is seen in both.
    """
    if share <= 0 or not panes:
        return [ChipPlace(pane, TRAIN) for pane in panes]
    split = _Split(panes, block)
    names = sorted(split.own)
    order = [names[n] for n in np.random.default_rng(seed).permutation(len(names)).tolist()]
    split.change(order[0])
    alone, pairs = [(name,) for name in order], list(itertools.combinations(order[:_PAIRED], 2))
    while _any_closer(split, alone, share) or _any_closer(split, pairs, share):
        pass
    return split.places()


def _any_closer(split: _Split, changes: Sequence[tuple[_Block, ...]], share: float) -> bool:
    """Try changes one after the other; whether any was for the better."""
    return sum(_closer(split, names, share) for names in changes) > 0


def _closer(split: _Split, names: Sequence[_Block], share: float) -> bool:
    """Let blocks change to the other part if that brings chips for validation closer to their share."""
    before = _off(*split.counts, share)
    for name in names:
        split.change(name)
    if split.counts[0] and _off(*split.counts, share) < before:
        return True
    for name in names:
        split.change(name)
    return False


def _off(validation: int, training: int, share: float) -> float:
    """How far chips for validation are from their share of all."""
    return abs(validation / max(validation + training, 1) - share)


class _Split:
    """Chips by the block in which their middles lie, and the blocks that are for validation."""

    def __init__(self, panes: Sequence[Pane], block: int) -> None:
        self._panes = panes
        corners = np.array([(pane.top, pane.left) for pane in panes])
        middles = corners + np.array(panes[0].shape) // 2
        self._owners: list[_Block] = [(row, column) for row, column in (middles // block).tolist()]
        self.own: dict[_Block, list[int]] = {}
        for number, name in enumerate(self._owners):
            self.own.setdefault(name, []).append(number)
        self._beside: dict[_Block, set[int]] = {name: set() for name in self.own}
        near = (
            scipy("spatial").KDTree(corners).query_pairs(panes[0].rows - 0.5, p=np.inf, output_type="ndarray")
        )
        for one, other in near.tolist():
            if self._owners[one] != self._owners[other]:
                self._beside[self._owners[one]].add(other)
                self._beside[self._owners[other]].add(one)
        self._held: set[_Block] = set()
        self._meets = [0] * len(panes)  # of how many blocks for validation a chip meets a chip
        self.counts = 0, len(panes)

    def with_other(self, name: _Block) -> tuple[int, int]:
        """Chips for validation and for training, if a block changed to the other part."""
        validation, training = self.counts
        held = name in self._held
        own = sum(not self._meets[n] for n in self.own[name])
        beside = [n for n in self._beside[name] if self._owners[n] not in self._held]
        if held:
            lost = own + sum(self._meets[n] == 1 for n in beside)
            return validation - len(self.own[name]), training + lost
        lost = own + sum(not self._meets[n] for n in beside)
        return validation + len(self.own[name]), training - lost

    def change(self, name: _Block) -> None:
        """Let a block change to the other part."""
        self.counts = self.with_other(name)
        step = -1 if name in self._held else 1
        for number in self._beside[name]:
            self._meets[number] += step
        self._held ^= {name}

    def places(self) -> list[ChipPlace]:
        """All chips in their part, without those that are in neither."""
        made = []
        for number, (pane, owner) in enumerate(zip(self._panes, self._owners, strict=True)):
            if owner in self._held:
                made.append(ChipPlace(pane, VALIDATION))
            elif not self._meets[number]:
                made.append(ChipPlace(pane, TRAIN))
        return made
