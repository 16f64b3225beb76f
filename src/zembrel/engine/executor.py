"""Executors: apply a task to panes, results in order, a bounded number in flight."""

from __future__ import annotations

import sys
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any, Protocol, TypeVar

from zembrel.grid.pane import Pane

Result = TypeVar("Result")
_SWITCH = 0.0005  # seconds a thread back from a kernel waits for the interpreter; ten times as many cost 5 %


class Executor(Protocol):
    """Where tasks run."""

    def map(self, task: Callable[[Pane], Result], panes: Iterable[Pane]) -> Iterator[Result]:
        """Results of `task` in the order of `panes`. A failed or abandoned run leaves no task behind."""
        ...


@dataclass(frozen=True)
class Threads:
    """Threads of this process; at most `in_flight` results exist at a time."""

    workers: int
    in_flight: int

    def map(self, task: Callable[[Pane], Result], panes: Iterable[Pane]) -> Iterator[Result]:
        if self.workers == 1:
            yield from map(task, panes)
            return
        pool = ThreadPoolExecutor(self.workers, thread_name_prefix="zembrel")
        waiting: deque[Future[Any]] = deque()
        interval = sys.getswitchinterval()
        sys.setswitchinterval(_SWITCH)
        try:
            for pane in panes:
                waiting.append(pool.submit(task, pane))
                if len(waiting) >= self.in_flight:
                    yield waiting.popleft().result()
            while waiting:
                yield waiting.popleft().result()
        finally:
            pool.shutdown(wait=True, cancel_futures=True)
            sys.setswitchinterval(interval)
