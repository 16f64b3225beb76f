"""Bands that formulas make of other layers, in one pass."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from zembrel.expression.program import Program
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block, Mask, Raster, shared_type


class Source(NamedTuple):
    """A layer that formulas read, and which of its bands each name means."""

    raster: Raster
    bands: Mapping[str, int]


@dataclass(frozen=True, eq=False)
class Derived:
    """The results of `program`, a band each, over layers on one frame."""

    sources: tuple[Source, ...]
    program: Program
    bands: tuple[Band, ...]

    @property
    def frame(self) -> Frame:
        return self.sources[0].raster.frame

    def cells(self, pane: Pane) -> Block:
        wide = pane.grown(self.program.reach).meet(self.frame.pane)
        assert wide is not None
        held: dict[str, tuple[Any, Mask | None]] = {}
        for source in self.sources:
            block = source.raster.cells(wide)
            for name, band in source.bands.items():
                held[name] = block.cells[band], None if block.valid is None else block.valid_of(band)
        kind, part = shared_type(self.bands), pane.within(wide)
        room = np.empty((len(self.bands), *wide.shape), kind)
        alike = all(band.dtype == kind for band in self.bands)
        made = self.program.run(held, list(room) if alike else None)
        if not alike:
            for band, (values, _) in zip(room, made, strict=True):
                band[...] = values
        cells = room[:, *part]
        if all(valid is None for _, valid in made):
            return Block(cells)
        whole = np.ones(pane.shape, bool)
        masks = [whole if valid is None else valid[part] for _, valid in made]
        return Block(cells, masks[0] if len(masks) == 1 else np.stack(masks))
