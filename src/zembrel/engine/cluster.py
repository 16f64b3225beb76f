"""Workers of a Dask cluster as an executor: on this machine, or on many that share their storage.

A task travels to each worker once, whatever the number of items; a worker that is lost takes nothing with it,
since what it held or was doing is asked of another. Source: distributed.dask.org, "Resilience".
"""

from __future__ import annotations

import hashlib
import importlib
import logging
import os
import pickle
import threading
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sized
from concurrent import futures
from contextlib import contextmanager
from functools import lru_cache
from itertools import islice
from pathlib import Path
from typing import Any, NamedTuple, TypeVar

from zembrel.errors import InputError, ResourceError, UsageError
from zembrel.formats.blockcache import block_cache
from zembrel.reading import readings
from zembrel.version import program_version

Item = TypeVar("Item")
Result = TypeVar("Result")
LOCAL = "local:"
_PATIENCE, _LEAVING = 15, 3  # seconds until a scheduler answers, and until it has let go
_AHEAD = 3  # groups of items of each thread that are asked for at a time
_BRINGING = 4  # results that are on their way at a time
_GROUP = 4  # items that go together at most: each group costs a message or three
_MOST_HELD = 4  # tasks that a worker keeps


class SentTask(NamedTuple):
    """A task on its way: pickled, the program that made it, the folder its paths are seen from, bytes for
    decoded blocks, and what its run may do."""

    pickled: bytes
    version: str
    folder: str
    cache: int
    trusted: bool
    offline: bool

    @property
    def mark(self) -> str:
        """The same for the same task."""
        return hashlib.blake2b(self.pickled, digest_size=16).hexdigest()


class Cluster:
    """An executor on a cluster; at most so many items are under way as keep all its threads busy."""

    def __init__(self, client: Any, cache: int) -> None:
        self._client, self._cache = client, cache

    @property
    def address(self) -> str:
        """Where others of this run find the same cluster."""
        return str(self._client.scheduler.address)

    @property
    def threads(self) -> int:
        """Threads of all workers that are there now."""
        return sum(self._client.nthreads().values())

    def map(self, task: Callable[[Item], Result], items: Iterable[Item]) -> Iterator[Result]:
        """Results in order. Raises what a task raises, ResourceError where workers keep being lost,
        or the scheduler is."""
        from distributed.comm.core import CommClosedError

        here = str(Path.cwd())
        sent = SentTask(
            pickle.dumps(task), program_version(), here, self._cache, readings.trusted, readings.offline
        )
        held = self._client.submit(_held, sent, key=f"zembrel-{sent.mark}", pure=True)
        asked: list[Any] = []
        waiting: deque[futures.Future[list[Result]]] = deque()
        bringing = futures.ThreadPoolExecutor(_BRINGING)
        try:
            for group in _groups(items, self.threads):
                asked.append(self._client.submit(_done, held, group, pure=False))
                waiting.append(bringing.submit(self._result, asked[-1]))
                if len(waiting) >= max(2, self.threads * _AHEAD):
                    yield from waiting.popleft().result()
                    asked = asked[-len(waiting) :]
            while waiting:
                yield from waiting.popleft().result()
        except (CommClosedError, futures.CancelledError, OSError, RuntimeError) as exc:
            told = isinstance(exc, CommClosedError | futures.CancelledError)
            if not told and self._client.status == "running":
                raise  # of a task
            what, remedy = "the cluster's scheduler was lost", "start it again, and then this run"
            raise ResourceError(what, "it answers no more", remedy) from exc
        finally:
            if self._client.status == "running":
                self._client.cancel([*asked, held])
            bringing.shutdown(wait=False, cancel_futures=True)

    def _result(self, future: Any) -> Any:
        from distributed import KilledWorker

        try:
            return future.result()
        except KilledWorker as exc:
            why = "each worker that took it was lost: it may need more memory than they have"
            raise ResourceError("a block could not be done by the cluster", why, "give workers more") from exc


@contextmanager
def cluster_at(address: str, cache: int) -> Iterator[Cluster]:
    """The cluster at `tcp://HOST:PORT`, or `local:N` processes of this machine, which end with this.

    cache: bytes for decoded blocks in each process. Raises UsageError without the package, for an address
    that is none, and for workers of another version; ResourceError where nobody answers.
    """
    try:
        distributed: Any = importlib.import_module("distributed")
    except ImportError as exc:
        why = "the package for that is not installed"
        raise UsageError(f"--cluster {address}", why, "install zembrel[cluster]") from exc
    for name in ("distributed", "distributed.client"):  # losses are ours to tell
        logging.getLogger(name).setLevel(logging.CRITICAL)
    local = None
    try:
        if address.startswith(LOCAL):
            local = distributed.LocalCluster(
                n_workers=_count(address), threads_per_worker=1, processes=True, memory_limit=0,
                host="127.0.0.1", dashboard_address="127.0.0.1:0",
            )  # fmt: skip
        elif "://" not in address:
            raise UsageError(f"--cluster {address}", "a scheduler has an address", "write tcp://HOST:8786")
        client = distributed.Client(local or address, timeout=_PATIENCE, direct_to_workers=True)
    except (OSError, TimeoutError, ValueError) as exc:
        if local is not None:
            local.close()
        what = f"no scheduler answers at {address}"
        raise ResourceError(
            what, str(exc) or "nobody was there in time", "start one: dask scheduler"
        ) from exc
    try:
        _check_versions(client)
        yield Cluster(client, cache)
    finally:
        client.close(_LEAVING)
        if local is not None:
            local.close()


def _count(address: str) -> int:
    """The processes that `local:N` asks for. Raises UsageError."""
    text = address.removeprefix(LOCAL)
    if not text.isdigit() or not 1 <= int(text) <= 1024:
        raise UsageError(f"--cluster {address}", "a number of processes is needed", "write --cluster local:4")
    return int(text)


def _check_versions(client: Any) -> None:
    """Raise ResourceError if there is no worker, UsageError if one has another version: bytes may differ."""
    found: dict[str, Any] = client.run(program_version, on_error="return")
    if not found:
        raise ResourceError("the cluster has no worker", "nobody would do the work", "start one: dask worker")
    other = next((name for name, said in found.items() if said != program_version()), None)
    if other is not None:
        said = f"Zembrel {found[other]}" if isinstance(found[other], str) else "no Zembrel"
        why = f"here is {program_version()}, and results could differ"
        raise UsageError(f"worker {other} has {said}", why, "install the same")


def _held(sent: SentTask) -> SentTask:
    """A task, where it is needed: what a cluster can make anew on another worker."""
    return sent


class _Turnstile:
    """Lets tasks of one folder in at a time: a process has one working folder, and paths are seen from it."""

    def __init__(self) -> None:
        self._turns = threading.Condition()
        self._inside = 0

    @contextmanager
    def at(self, folder: str) -> Iterator[None]:
        """Inside, paths are seen from `folder`. Raises ResourceError where that is not to be seen."""
        with self._turns:
            self._turns.wait_for(lambda: not self._inside or str(Path.cwd()) == folder)
            try:
                os.chdir(folder)
            except OSError as exc:
                what, why = f"a worker does not see the folder {folder}", "its machine has another disk"
                raise ResourceError(what, why, "run on storage that all share") from exc
            self._inside += 1
        try:
            yield
        finally:
            with self._turns:
                self._inside -= 1
                self._turns.notify_all()


_turnstile = _Turnstile()


@lru_cache(maxsize=_MOST_HELD)
def _task(pickled: bytes) -> Callable[[Any], Any]:
    """A task, unpacked once by each process."""
    task: Callable[[Any], Any] = pickle.loads(pickled)
    return task


def _groups(items: Iterable[Item], threads: int) -> Iterator[list[Item]]:
    """Items in groups, so small that all threads have many of them."""
    count = len(items) if isinstance(items, Sized) else 0
    size = min(_GROUP, max(1, count // (max(threads, 1) * 16)))
    coming = iter(items)
    while group := list(islice(coming, size)):
        yield group


def _done(sent: SentTask, group: list[Any]) -> list[Any]:
    """What a task makes of each item of a group, on a worker."""
    if sent.version != program_version():
        what = f"a worker has Zembrel {program_version()}, not {sent.version}"
        raise InputError(what, "results could differ", "install the same version everywhere")
    block_cache.set_budget(sent.cache)
    with _turnstile.at(sent.folder), readings.run():
        readings.trust(sent.trusted)
        readings.stay_offline(sent.offline)
        task = _task(sent.pickled)
        return [task(item) for item in group]
