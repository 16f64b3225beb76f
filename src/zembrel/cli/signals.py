"""How the program answers a signal that asks it to stop, at whatever moment the signal comes."""

from __future__ import annotations

import os
import signal
import sys
import threading
from types import FrameType
from typing import Any

_AGAIN = 0.02  # seconds after which a signal that was lost is sent again


class Terminated(BaseException):
    """SIGTERM came: unwind like an interrupt, so that nothing half-written remains."""


def end_at_once() -> None:
    """From now on a signal just ends the process: nobody can answer, or nothing is left to do."""
    _answer(signal.SIG_DFL, signal.SIG_DFL)


def unwind() -> None:
    """From now on a signal raises KeyboardInterrupt or Terminated, and is never lost.

    Python ignores what is raised while it removes an object; the signal is sent again after that.
    """
    sys.unraisablehook = _send_again
    _answer(signal.default_int_handler, _terminate)


def _answer(interrupt: Any, terminate: Any) -> None:
    """Answer signals in this way, but for those that whoever started us has turned off."""
    for number, answer in ((signal.SIGINT, interrupt), (signal.SIGTERM, terminate)):
        if signal.getsignal(number) is not signal.SIG_IGN:
            signal.signal(number, answer)


def _terminate(number: int, frame: FrameType | None) -> None:
    raise Terminated


def _send_again(lost: Any) -> None:
    for kind, number in ((KeyboardInterrupt, signal.SIGINT), (Terminated, signal.SIGTERM)):
        if issubclass(lost.exc_type, kind):
            later = threading.Timer(_AGAIN, os.kill, (os.getpid(), number))
            later.daemon = True
            later.start()
            return
    sys.__unraisablehook__(lost)
