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


_listeners: list[Callable[[str], None]] = []
_said: set[str] = set()


def listen(listener: Callable[[str], None] | None) -> None:
    """Have `listener` told what takes long for once; None for nobody."""
    _listeners[:] = [listener] if listener is not None else []


def tell(notice: str) -> None:
    """Say what is about to take long, to whoever listens; each thing once."""
    if notice not in _said:
        _said.add(notice)
        for listener in _listeners:
            listener(notice)


def no_tick(progress: Progress) -> None:
    """Ignore `progress`."""
