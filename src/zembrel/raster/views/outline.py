"""Blanking by an outline."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block, Mask, Raster


class Cover(Protocol):
    """Which cells of a pane are inside: bool, (rows, columns)."""

    def inside(self, pane: Pane) -> Mask: ...


@dataclass(frozen=True)
class Blanked:
    """`source` with cells invalid where `cover` does not hold them (or where it does: `outside`)."""

    source: Raster
    cover: Cover
    outside: bool = False

    @property
    def frame(self) -> Frame:
        return self.source.frame

    @property
    def bands(self) -> tuple[Band, ...]:
        return self.source.bands

    def cells(self, pane: Pane) -> Block:
        kept = self.cover.inside(pane)
        if self.outside:
            kept = ~kept
        block = self.source.cells(pane)
        return Block(block.cells, kept if block.valid is None else block.valid & kept)
