"""Where classes changed, and into which: codes of pairs of classes."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass

import numpy as np

from zembrel.errors import RefusedError
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.legend import Legend, LegendEntry, shade
from zembrel.raster.model import Band, Block, Raster

_UNCHANGED = LegendEntry(0, "unchanged", (225, 225, 225))
_MOST = np.iinfo(np.int32).max


@dataclass(frozen=True)
class Changed:
    """The class of `one` times `step` plus that of `other`; 0 where they are alike, valid where both are."""

    one: Raster
    other: Raster
    step: int
    legend: Legend

    @property
    def frame(self) -> Frame:
        return self.one.frame

    @property
    def bands(self) -> tuple[Band, ...]:
        most = max(entry.code for entry in self.legend.entries)
        kind = next(kind for kind in ("uint8", "uint16", "int32") if most < np.iinfo(kind).max)
        return (Band("change", kind, nodata=int(np.iinfo(kind).max), legend=self.legend),)

    def cells(self, pane: Pane) -> Block:
        first, second = self.one.cells(pane), self.other.cells(pane)
        both = first.valid_of(0) & second.valid_of(0)
        one, other = (np.where(both, block.cells[0], 0).astype(np.int64) for block in (first, second))
        made = np.where(one == other, 0, one * self.step + other)
        return Block(made.astype(self.bands[0].dtype)[None], both)


def changed(
    one: Raster, other: Raster, pairs: Collection[tuple[int, int]], names: tuple[Mapping[int, str], ...]
) -> Changed:
    """The changes from `one` to `other`, of which `pairs` are all that occur; names: of both classes by code.

    Codes are those of both classes written one after the other, as 4 to 12 is 412. Raises RefusedError for
    codes that cannot be.
    """
    codes = [code for pair in pairs for code in pair]
    step = 10 ** len(str(max(codes, default=0)))
    if min(codes, default=0) < 0 or max(codes, default=0) * (step + 1) > _MOST:
        raise RefusedError(
            f"classes from {min(codes)} to {max(codes)} make no codes of changes",
            "these are codes from 0 to 9,999, one written after the other",
            "give the classes other codes with classify --table",
        )
    told = sorted(pair for pair in pairs if pair[0] != pair[1])
    entries = [
        LegendEntry(a * step + b, f"{names[0].get(a) or a} -> {names[1].get(b) or b}", shade(n))
        for n, (a, b) in enumerate(told)
    ]
    return Changed(one, other, step, Legend.of([_UNCHANGED, *entries]))
