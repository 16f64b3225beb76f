"""Regions of few cells given to their largest neighbours, whatever is made of the rest."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from zembrel.engine.limits import Limits
from zembrel.engine.run import over_panes
from zembrel.errors import UsageError
from zembrel.facts import Fact, fact
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Cells, Mask, Raster
from zembrel.raster.sieved import sieved

_STRIP_CELLS = 2_000_000


@dataclass(frozen=True, eq=False)
class _Codes:
    """The task of reading a strip of codes, and which are valid, None for all."""

    raster: Raster

    def __call__(self, pane: Pane) -> tuple[Cells, Mask | None]:
        block = self.raster.cells(pane)
        return block.cells[0], None if block.valid is None else block.valid_of(0)


def check_least(least: int) -> None:
    """Raise UsageError for a number of cells that is none."""
    if least < 0:
        raise UsageError(f"--min-cells {least}", "a number of cells is needed", "write --min-cells 20")


def strips_of(frame: Frame) -> list[Pane]:
    """The strips in which codes are read."""
    return list(frame.pane.blocks(max(1, _STRIP_CELLS // frame.columns), frame.columns))


def sieved_codes(
    raster: Raster, least: int, diagonal: bool, limits: Limits
) -> tuple[Iterator[tuple[Any, Any]], list[Fact]]:
    """The codes of `raster` strip by strip, small regions joined to others, and a word on these.

    least: cells of a region that stays.
    """
    panes = strips_of(raster.frame)

    def strips() -> Iterator[tuple[Any, Any]]:
        return over_panes(raster, panes, _Codes(raster), limits)

    if least < 2:
        return strips(), []
    parts, gone, left = sieved(strips, raster.frame.columns, least, diagonal=diagonal)
    said = [fact("regions_sieved", regions=gone, least=least)]
    return parts, [*said, *([fact("regions_without_neighbour", regions=left)] if left else [])]
