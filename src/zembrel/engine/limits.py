"""What a run may use: memory, workers, where these run, and whom to tell how far it is."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent import futures
from dataclasses import dataclass
from typing import TypeVar

from zembrel.engine.executor import Executor, Threads
from zembrel.formats.blockcache import block_cache
from zembrel.progress import Progress, Tick, no_tick

DEFAULT_MEMORY = 256_000_000
_PROGRAM = 170_000_000  # bytes of the interpreter, its packages and compiled kernels
_COPIES = 6  # of a block that are alive while it is computed and encoded: source, positions, result
_END = object()
Item = TypeVar("Item")
Result = TypeVar("Result")


@dataclass(frozen=True)
class Limits:
    """Bytes for blocks, how many work at once, and whom to tell how far it is.

    executor: where tasks run, if not on threads of this process.
    """

    memory: int = DEFAULT_MEMORY
    workers: int = 0  # 0: one for each processor at hand
    tick: Tick = no_tick
    executor: Executor | None = None

    @property
    def expected(self) -> int:
        """Bytes of memory the process is likely to take: the program itself, and its budget once in use."""
        return _PROGRAM + self.memory

    def executor_for(self, item_bytes: int) -> Executor:
        """Workers such that decoded blocks get three eighths of the memory and items in flight a half.

        item_bytes: of the cells or records of one item.
        """
        block_cache.set_budget(self.memory * 3 // 8)  # held blocks take more than their cells
        if self.executor is not None:
            return self.executor
        fitting = max(1, self.memory // 2 // (max(item_bytes, 1) * _COPIES))
        workers = min(self.workers or processors(), fitting)
        return Threads(workers, workers + min(fitting, workers))


def each(
    items: Sequence[Item],
    task: Callable[[Item], Result],
    limits: Limits,
    *,
    size: Callable[[Item], int],
    item_bytes: int,
) -> Iterator[Result]:
    """The one loop over data: what `task` makes of each item, in order, a bounded number of them at a time.

    size: what an item counts for in the progress, cells or points; item_bytes: of the largest one.
    """
    all_cells, cells = sum(map(size, items)), 0
    executor = limits.executor_for(item_bytes)
    for number, (item, result) in enumerate(zip(items, executor.map(task, items), strict=True), 1):
        yield result
        cells += size(item)
        limits.tick(Progress(number, len(items), cells, all_cells))


def stage(items: Iterable[Item], task: Callable[[Item], Result], limits: Limits) -> Iterator[Result]:
    """What `task` makes of each item, in order, on threads of this process: a second stage behind `each`, of
    which a few items are alive at a time."""
    workers = limits.workers or processors()
    return Threads(workers, workers + 1).map(task, items)


def ahead(steps: Iterable[Item], limits: Limits) -> Iterator[Item]:
    """The same steps, each made while the one before is used, if more than one may work."""
    if (limits.workers or processors()) == 1:
        yield from steps
        return
    coming = iter(steps)
    with futures.ThreadPoolExecutor(1) as worker:
        step = worker.submit(next, coming, _END)
        while (made := step.result()) is not _END:
            step = worker.submit(next, coming, _END)
            yield made  # type: ignore[misc]


def processors() -> int:
    """Processors that this process may use."""
    try:
        return len(os.sched_getaffinity(0))
    except AttributeError:
        return os.cpu_count() or 1
