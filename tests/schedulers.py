"""A Dask scheduler and workers on this machine, for benches and tests."""

from __future__ import annotations

import json
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

_MODULES = ("distributed.cli.dask_scheduler", "distributed.cli.dask_worker")
_PATIENCE = 60  # seconds


@contextmanager
def scheduler(folder: Path, count: int) -> Iterator[tuple[str, list[subprocess.Popen[bytes]]]]:
    """The address of a scheduler, and the processes: it, and its workers. All end with this."""
    said = folder / "scheduler.json"
    words = ["--port", "0", "--no-dashboard", "--no-show", "--scheduler-file", str(said)]
    runs = [_started(_MODULES[0], words, folder)]
    try:
        _wait(lambda: said.exists() and said.stat().st_size > 0)
        address = str(json.loads(said.read_text())["address"])
        words = [address, "--nthreads", "1", "--no-dashboard", "--no-nanny", "--memory-limit", "0"]
        runs += [_started(_MODULES[1], words, folder) for _ in range(count)]
        _wait(lambda: _present(address) == count)
        yield address, runs
    finally:
        for run in runs:  # nothing of theirs has to end in order
            run.kill()
            run.wait()


def _started(module: str, words: list[str], folder: Path) -> subprocess.Popen[bytes]:
    quiet: dict[str, Any] = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    return subprocess.Popen([sys.executable, "-m", module, *words], cwd=folder, **quiet)


def _present(address: str) -> int:
    """How many workers are there."""
    from distributed import Client

    with Client(address) as client:
        return len(client.scheduler_info(n_workers=-1)["workers"])


def _wait(holds: Any) -> None:
    """Wait until something holds. Raises TimeoutError."""
    end = time.monotonic() + _PATIENCE
    while not holds():
        if time.monotonic() > end:
            raise TimeoutError("the cluster did not start")
        time.sleep(0.1)
