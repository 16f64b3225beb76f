"""Colours as the codes of a palette that has them all."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.legend import Legend
from zembrel.raster.model import Band, Block, Raster


@dataclass(frozen=True)
class Coded:
    """The first three bands of `source`, bytes, as codes of `palette`, in which all of them are."""

    source: Raster
    palette: Legend

    @property
    def frame(self) -> Frame:
        return self.source.frame

    @property
    def bands(self) -> tuple[Band, ...]:
        return (Band("colour", "uint8", legend=self.palette),)

    @cached_property
    def _known(self) -> tuple[npt.NDArray[np.int32], npt.NDArray[np.uint8]]:
        """Colours in ascending order, and their codes."""
        colours = one_number(np.array([entry.colour for entry in self.palette.entries], np.uint8).T)
        order = np.argsort(colours)
        codes = np.array([entry.code for entry in self.palette.entries], np.uint8)
        return colours[order], codes[order]

    def cells(self, pane: Pane) -> Block:
        block = self.source.cells(pane)
        colours, codes = self._known
        at = np.searchsorted(colours, one_number(block.cells[:3])).clip(0, len(codes) - 1)
        return Block(codes[at][None], None if block.valid is None else block.anywhere)


def one_number(colours: npt.NDArray[Any]) -> npt.NDArray[np.int32]:
    """A number for each colour (3, ...)."""
    red, green, blue = colours.astype(np.int32)
    return np.asarray(red << 16 | green << 8 | blue)
