"""Work that a C library may never end, or end the process by: tried first in a process of its own."""

from __future__ import annotations

import faulthandler
import os
import select
import signal
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from zembrel.reading import readings

_SECONDS, _MEMORY = 10, 4_000_000_000  # that a trial may take, and bytes beside those of this process


def fault_of(work: Callable[[], object]) -> str | None:
    """Why `work` cannot be done: what ends the process, or has no end. None for all else, errors included.

    It is done in a copy of this process, which costs some milliseconds; not at all for inputs that are
    trusted, nor where a process cannot be copied.
    """
    if readings.trusted or not hasattr(os, "fork"):
        return None
    begin, end = os.pipe()
    child = os.fork()
    if not child:
        _try(work)
    os.close(end)
    ended = False
    try:
        ended = bool(select.select([begin], [], [], _SECONDS)[0])  # readable once the child is gone
    finally:  # nobody waits for it any more, whatever the reason
        if not ended:
            os.kill(child, signal.SIGKILL)
        os.close(begin)
        _, status = os.waitpid(child, 0)
    if not ended:
        return f"it keeps the library busy for more than {_SECONDS} s"
    killed = signal.Signals(os.WTERMSIG(status)).name if os.WIFSIGNALED(status) else None
    return f"the library that reads it ends the program ({killed})" if killed else None


def _try(work: Callable[[], object]) -> None:
    """Do it, within limits and in silence, and leave without a trace, whatever happens."""
    try:
        with suppress(BaseException):
            faulthandler.disable()
            for number in (signal.SIGINT, signal.SIGTERM):
                signal.signal(number, signal.SIG_DFL)
            silent = os.open(os.devnull, os.O_WRONLY)
            os.dup2(silent, 1)
            os.dup2(silent, 2)
            with suppress(ImportError, OSError, ValueError):
                _bound()
            work()
    finally:
        os._exit(0)


def _bound() -> None:
    """Limits of this process from now on: its memory, and no file of what was in it."""
    import resource

    now = int(Path("/proc/self/statm").read_text().split()[0]) * resource.getpagesize()
    resource.setrlimit(resource.RLIMIT_AS, (now + _MEMORY, now + _MEMORY))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
