"""Timing whole processes, and stating what was found against what is asked."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

HERE = Path(__file__).parent
ZEMBREL = (sys.executable, "-m", "zembrel")


class Usage(NamedTuple):
    """What a process took: seconds of wall time and the largest resident memory in bytes."""

    seconds: float
    memory: int


class Result(NamedTuple):
    """One figure: what was measured and how much is allowed."""

    name: str
    value: float
    limit: float
    unit: str = "of the other"
    note: str = ""

    @property
    def held(self) -> bool:
        return self.value <= self.limit

    def __str__(self) -> str:
        verdict = "ok  " if self.held else "MISS"
        return (
            f"{verdict} {self.name:<58} {self.value:8.3g} {self.unit} (at most {self.limit:g})  {self.note}"
        )


def used(command: Sequence[str], cwd: Path | None = None) -> Usage:
    """Run `command` to its end. Raises CalledProcessError with what it said if it fails."""
    started = time.perf_counter()
    process = subprocess.Popen(command, cwd=cwd, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
    assert process.stderr is not None
    said = process.stderr.read()
    _, status, usage = os.wait4(process.pid, 0)
    seconds = time.perf_counter() - started
    process.returncode = os.waitstatus_to_exitcode(status)
    if process.returncode:
        raise subprocess.CalledProcessError(process.returncode, command, stderr=said.decode())
    return Usage(seconds, usage.ru_maxrss * 1024)


def told(command: Sequence[str]) -> float:
    """The seconds that `command` says its work took, once it was warm."""
    done = subprocess.run(command, check=True, capture_output=True, text=True)
    return float(done.stdout.split()[-1])


def told_in_turn(one: Sequence[str], other: Sequence[str], times: int) -> tuple[float, float]:
    """Least seconds that two commands say, which take turns."""
    rounds = [(told(one), told(other)) for _ in range(times)]
    return min(ours for ours, _ in rounds), min(theirs for _, theirs in rounds)


def in_turn(
    one: Sequence[str], other: Sequence[str], times: int, cwd: Path | None = None
) -> tuple[Usage, Usage]:
    """Least time and largest memory of two commands that take turns, after one run of each.

    The least, because what else goes on in the machine only ever adds.
    """
    used(one, cwd), used(other, cwd)
    rounds = [(used(one, cwd), used(other, cwd)) for _ in range(times)]
    ours, theirs = zip(*rounds, strict=True)
    return least(ours), least(theirs)


def least(runs: Sequence[Usage]) -> Usage:
    return Usage(min(run.seconds for run in runs), max(run.memory for run in runs))
