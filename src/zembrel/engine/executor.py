"""Executors: apply a task to panes or parts, results in order, a bounded number in flight."""

from __future__ import annotations

import pickle
import sys
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent import futures
from dataclasses import dataclass
from functools import lru_cache
from itertools import count
from pathlib import Path
from typing import Any, Protocol, TypeVar

from zembrel.scratch import Scratch

Item = TypeVar("Item")
Result = TypeVar("Result")
_SWITCH = 0.0005  # seconds a thread back from a kernel waits for the interpreter; ten times as many cost 5 %


class Executor(Protocol):
    """Where tasks run."""

    def map(self, task: Callable[[Item], Result], items: Iterable[Item]) -> Iterator[Result]:
        """Results of `task` in the order of `items`. A failed or abandoned run leaves no task behind."""
        ...


@dataclass(frozen=True)
class Threads:
    """Threads of this process; at most `in_flight` results exist at a time."""

    workers: int
    in_flight: int

    def map(self, task: Callable[[Item], Result], items: Iterable[Item]) -> Iterator[Result]:
        if self.workers == 1:
            yield from map(task, items)
            return
        pool = futures.ThreadPoolExecutor(self.workers, thread_name_prefix="zembrel")
        interval = sys.getswitchinterval()
        sys.setswitchinterval(_SWITCH)
        try:
            yield from _in_order((pool.submit(task, item) for item in items), self.in_flight)
        finally:
            pool.shutdown(wait=True, cancel_futures=True)
            sys.setswitchinterval(interval)


class Processes:
    """Fresh processes of this machine, which stay until `close`; at most `in_flight` results exist at a time.

    A task, with all that it holds, travels to each of them once, through a file.
    """

    def __init__(self, workers: int, in_flight: int) -> None:
        self._in_flight, self._scratch, self._tasks = in_flight, Scratch(), count()
        import multiprocessing

        self._pool = futures.ProcessPoolExecutor(workers, multiprocessing.get_context("spawn"))

    def map(self, task: Callable[[Item], Result], items: Iterable[Item]) -> Iterator[Result]:
        file = self._scratch.path / str(next(self._tasks))
        file.write_bytes(pickle.dumps(task))
        try:
            yield from _in_order((self._pool.submit(_done, file, item) for item in items), self._in_flight)
        finally:
            file.unlink()

    def close(self) -> None:
        """Let the processes go."""
        self._pool.shutdown(wait=True, cancel_futures=True)


def _in_order(submitted: Iterator[futures.Future[Result]], in_flight: int) -> Iterator[Result]:
    """Results of what is submitted, so many ahead. What still waits when a run ends is cancelled."""
    waiting: deque[futures.Future[Result]] = deque()
    try:
        for future in submitted:
            waiting.append(future)
            if len(waiting) >= in_flight:
                yield waiting.popleft().result()
        while waiting:
            yield waiting.popleft().result()
    finally:
        for future in waiting:
            future.cancel()


@lru_cache(maxsize=4)
def _task(file: Path) -> Callable[[Any], Any]:
    """The task in a file, read once by each process."""
    task: Callable[[Any], Any] = pickle.loads(file.read_bytes())
    return task


def _done(file: Path, item: Any) -> Any:
    return _task(file)(item)
