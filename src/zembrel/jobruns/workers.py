"""Where chains run: here, one after the other, or in processes of their own, several at once.

What a run reads and writes is kept by process, so that chains at once need one each. They end with the run,
however that ends.
"""

from __future__ import annotations

import contextlib
import ctypes
import multiprocessing
import os
import signal
from collections.abc import Iterator, Sequence
from concurrent import futures
from concurrent.futures.process import BrokenProcessPool
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from zembrel.jobruns.stepping import Ended, Setting, executed
from zembrel.jobs.chains import Chain
from zembrel.jobs.state import JobState
from zembrel.progress import Tick, no_tick

_DIE_WITH_PARENT = 1  # PR_SET_PDEATHSIG, of prctl(2)


class Workers(Protocol):
    """Whoever runs chains."""

    @property
    def most(self) -> int: ...
    def start(self, chain: Chain, setting: Setting, tick: Tick) -> futures.Future[Ended]: ...


@dataclass(frozen=True)
class Here:
    """This process. replace: whether files that are not the job's own may be replaced."""

    state: JobState
    replace: bool
    most: int = 1

    def start(self, chain: Chain, setting: Setting, tick: Tick) -> futures.Future[Ended]:
        """A future that is done."""
        ended: futures.Future[Ended] = futures.Future()
        try:
            ended.set_result(executed(chain, setting, _claims(self.state, chain, self.replace), tick))
        except Exception as exc:
            ended.set_exception(exc)
        return ended


@dataclass(frozen=True)
class WorkerProcesses:
    """Processes, each with a chain at a time."""

    pool: futures.ProcessPoolExecutor
    most: int

    def start(self, chain: Chain, setting: Setting, tick: Tick) -> futures.Future[Ended]:
        try:
            return self.pool.submit(_ended, chain, setting)
        except BrokenProcessPool as exc:
            ended: futures.Future[Ended] = futures.Future()
            ended.set_exception(exc)
            return ended


@contextmanager
def workers_for(jobs: int, state: JobState, job: Path, replace: bool) -> Iterator[Workers]:
    """Run `jobs` chains at once. job: the job file. An interrupt ends what is under way."""
    if jobs == 1:
        yield Here(state, replace)
        return
    spawn = multiprocessing.get_context("spawn")
    begin = (str(job), replace, os.getpid())
    pool = futures.ProcessPoolExecutor(jobs, spawn, _begin, begin)
    try:
        yield WorkerProcesses(pool, jobs)
    except BaseException:
        for process in multiprocessing.active_children():
            if process.pid is not None:
                with contextlib.suppress(ProcessLookupError):  # it may have ended by now
                    os.kill(process.pid, signal.SIGINT)
        raise
    finally:
        pool.shutdown(wait=True, cancel_futures=True)


@dataclass(frozen=True)
class _Claims:
    """Claims for one step the files that it is about to put in their places."""

    state: JobState
    step: str
    replace: bool

    def claim(self, finals: Sequence[Path]) -> None:
        """Raises RefusedError for a file that the step may not write."""
        self.state.claim(finals, self.step, replace=self.replace)

    def owns(self, folder: Path) -> bool:
        """Return True if the job has made all files of a folder and may replace them."""
        return self.replace and self.state.owns(folder)


def _claims(state: JobState, chain: Chain, replace: bool) -> _Claims:
    return _Claims(state, chain.step.id, replace or bool(chain.step.options.get("replace")))


_held: list[tuple[JobState, bool]] = []  # of a worker process: the state, and whether files may be replaced
_busy: list[Chain] = []  # what it is at


def _begin(job: str, replace: bool, parent: int) -> None:
    """Begin to be a worker: end with the run, and share its state."""
    prctl = getattr(ctypes.CDLL(None), "prctl", None)
    if prctl is not None:
        prctl(_DIE_WITH_PARENT, signal.SIGKILL)
    if os.getppid() != parent:
        os._exit(1)
    signal.signal(signal.SIGINT, _interrupted)
    _held.append((JobState(Path(job), lock=False), replace))


def _interrupted(number: int, frame: object) -> None:
    if _busy:
        raise KeyboardInterrupt


def _ended(chain: Chain, setting: Setting) -> Ended:
    """What comes of a chain. Raises ZembrelError, InterruptedError."""
    state, replace = _held[0]
    _busy.append(chain)
    try:
        return executed(chain, setting, _claims(state, chain, replace), no_tick)
    except KeyboardInterrupt:
        raise InterruptedError from None
    finally:
        _busy.clear()
