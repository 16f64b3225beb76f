"""The one loop over blocks."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any, Protocol, TypeVar

from zembrel.engine.executor import Executor, Threads
from zembrel.formats.blockcache import block_cache
from zembrel.formats.sink import Sink
from zembrel.grid.pane import Pane
from zembrel.progress import Progress, Tick, no_tick
from zembrel.raster.model import Block, Raster

DEFAULT_MEMORY = 256_000_000
_PROGRAM = 170_000_000  # bytes of the interpreter, its packages and compiled kernels
_COPIES = 6  # of a block that are alive while it is computed and encoded: source, positions, result
Result = TypeVar("Result")


@dataclass(frozen=True)
class Means:
    """What a run may use: bytes for blocks, threads, and whom to tell how far it is."""

    memory: int = DEFAULT_MEMORY
    workers: int = 0  # 0: one for each processor at hand
    tick: Tick = no_tick

    @property
    def expected(self) -> int:
        """Bytes of memory the process is likely to take: the program itself, and its budget once in use."""
        return _PROGRAM + self.memory

    def executor(self, block_bytes: int) -> Executor:
        """Threads such that decoded blocks get three eighths of the memory and blocks in flight a half."""
        block_cache.set_budget(self.memory * 3 // 8)  # held blocks take more than their cells
        fitting = max(1, self.memory // 2 // (block_bytes * _COPIES))
        workers = min(self.workers or processors(), max(fitting, 1))
        return Threads(workers, workers + min(fitting, workers))


class Observer(Protocol):
    """Learns from blocks in passing: `look` in parallel, `note` in order."""

    def look(self, pane: Pane, block: Block) -> Any: ...
    def note(self, seen: Any) -> None: ...


def run(view: Raster, sink: Sink, means: Means, observers: Sequence[Observer] = ()) -> None:
    """Pull every block of `view` into `sink`, in the sink's order, and finish it.

    Whatever stops the run, the sink is aborted and the error goes on.
    """
    panes = list(sink.blocks)

    def encoded(pane: Pane) -> tuple[Any, list[Any]]:
        block = view.cells(pane)
        seen = [observer.look(pane, block) for observer in observers]
        return sink.encode(pane, block), seen

    try:
        for pane, (data, seen) in _ordered(view, panes, encoded, means):
            sink.append(pane, data)
            for observer, fact in zip(observers, seen, strict=True):
                observer.note(fact)
        sink.finish()
    except BaseException:
        sink.abort()
        raise


def observe(view: Raster, panes: Sequence[Pane], observers: Sequence[Observer], means: Means) -> None:
    """Show every block of `view` to `observers`; nothing is written."""

    def looked(pane: Pane) -> list[Any]:
        block = view.cells(pane)
        return [observer.look(pane, block) for observer in observers]

    for _, seen in _ordered(view, panes, looked, means):
        for observer, fact in zip(observers, seen, strict=True):
            observer.note(fact)


def _ordered(
    view: Raster, panes: Sequence[Pane], task: Callable[[Pane], Result], means: Means
) -> Iterator[tuple[Pane, Result]]:
    cell_bytes = sum(band.dtype.itemsize for band in view.bands)
    executor = means.executor(max(pane.size for pane in panes) * cell_bytes)
    all_cells, cells = sum(pane.size for pane in panes), 0
    for number, (pane, result) in enumerate(zip(panes, executor.map(task, panes), strict=True), 1):
        yield pane, result
        cells += pane.size
        means.tick(Progress(number, len(panes), cells, all_cells))


def processors() -> int:
    """Processors that this process may use."""
    try:
        return len(os.sched_getaffinity(0))
    except AttributeError:
        return os.cpu_count() or 1
