"""Executors: apply a task to panes or parts, results in order, a bounded number in flight."""

from __future__ import annotations

import multiprocessing
import pickle
import sys
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ProcessPoolExecutor, ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any, Protocol, TypeVar

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
        pool = ThreadPoolExecutor(self.workers, thread_name_prefix="zembrel")
        waiting: deque[Future[Any]] = deque()
        interval = sys.getswitchinterval()
        sys.setswitchinterval(_SWITCH)
        try:
            for item in items:
                waiting.append(pool.submit(task, item))
                if len(waiting) >= self.in_flight:
                    yield waiting.popleft().result()
            while waiting:
                yield waiting.popleft().result()
        finally:
            pool.shutdown(wait=True, cancel_futures=True)
            sys.setswitchinterval(interval)


@dataclass(frozen=True)
class Processes:
    """Fresh processes of this machine; a task travels to each of them once, with all that it holds."""

    workers: int
    in_flight: int

    def map(self, task: Callable[[Item], Result], items: Iterable[Item]) -> Iterator[Result]:
        context = multiprocessing.get_context("spawn")
        pool = ProcessPoolExecutor(self.workers, context, _take_task, (pickle.dumps(task),))
        waiting: deque[Future[Any]] = deque()
        try:
            for item in items:
                waiting.append(pool.submit(_do_task, item))
                if len(waiting) >= self.in_flight:
                    yield waiting.popleft().result()
            while waiting:
                yield waiting.popleft().result()
        finally:
            pool.shutdown(wait=True, cancel_futures=True)


_task: Callable[[Any], Any]  # of this process, if it is one of a pool


def _take_task(packed: bytes) -> None:
    global _task
    _task = pickle.loads(packed)


def _do_task(item: Any) -> Any:
    return _task(item)
