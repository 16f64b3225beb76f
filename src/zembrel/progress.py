"""Progress as facts: cells done of cells in all. Whoever wants to see them passes a callable."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, NamedTuple

from zembrel.redaction import redact


class Progress(NamedTuple):
    """How far a run is: blocks and cells finished, of how many; of a job, of which step, and steps done."""

    blocks: int
    all_blocks: int
    cells: int
    all_cells: int
    step: str = ""
    steps: int = 0
    all_steps: int = 0


Tick = Callable[[Progress], None]


_listeners: list[Callable[[str], None]] = []
_followers: list[Callable[[Mapping[str, Any]], None]] = []
_said: set[str] = set()


def listen(listener: Callable[[str], None] | None) -> None:
    """Have `listener` told what takes long for once; None for nobody."""
    _listeners[:] = [listener] if listener is not None else []


def tell(notice: str, *, again: bool = False) -> None:
    """Say what is about to happen to whoever listens; each thing once, unless `again`."""
    notice = redact(notice)
    if again or notice not in _said:
        _said.add(notice)
        for listener in _listeners:
            listener(notice)


def follow(follower: Callable[[Mapping[str, Any]], None] | None) -> None:
    """Have `follower` told of each step of a job as it ends; None for nobody."""
    _followers[:] = [follower] if follower is not None else []


def step_ended(facts: Mapping[str, Any]) -> None:
    """Say what became of a step, to whoever follows."""
    for follower in _followers:
        follower(facts)


def no_tick(progress: Progress) -> None:
    """Ignore `progress`."""
