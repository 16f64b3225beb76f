"""Progress as facts: cells done of cells in all. Whoever wants to see them passes a callable."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple


class Progress(NamedTuple):
    """How far a run is: blocks and cells finished, of how many."""

    blocks: int
    all_blocks: int
    cells: int
    all_cells: int


Tick = Callable[[Progress], None]


def no_tick(progress: Progress) -> None:
    """Ignore `progress`."""
