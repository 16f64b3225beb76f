"""Standard output and standard error that may be closed, full, or of people with other alphabets."""

from __future__ import annotations

import codecs
import io
import os
import sys
from typing import Any

RESOURCE = 5  # exit code of what a disk or another resource failed


class _Stream(io.RawIOBase):
    """A stream that keeps a failure to itself: a run does not end in the middle for that.

    But for a reader that has gone, if that is `heard`: nothing more is wanted then.
    """

    def __init__(self, number: int, heard: bool) -> None:
        self._number, self._heard = number, heard
        self.failed: OSError | None = None

    def write(self, data: Any) -> int:
        if self.failed is not None:
            return len(data)
        rest = memoryview(data).cast("B")
        try:
            while rest:
                rest = rest[os.write(self._number, rest) :]
            return len(data)
        except OSError as exc:
            if self._heard and isinstance(exc, BrokenPipeError):
                raise
            self.failed = exc
            return len(data)

    def writable(self) -> bool:
        return True

    def close(self) -> None:
        """Stay open: the number belongs to the process, whatever wraps this stream for a while."""

    def fileno(self) -> int:
        return self._number

    def isatty(self) -> bool:
        try:
            return os.isatty(self._number)
        except OSError:
            return False


_before: list[Any] = []  # streams that would close theirs if they were let go
_out, _messages = _Stream(1, heard=True), _Stream(2, heard=False)


def make_safe() -> None:
    """Let messages that cannot be written pass, and data that cannot be be noticed (see `settle`).

    Names of files that are no UTF-8 go out as they came in, or in messages as escapes.
    """
    for number in (0, 1, 2):  # a closed one would become the first file that is opened
        try:
            os.fstat(number)
        except OSError:
            os.open(os.devnull, os.O_RDONLY)  # into which nothing can be written
    _before[:] = sys.stdout, sys.stderr
    _out.failed = _messages.failed = None
    encoding = getattr(sys.stderr, "encoding", None) or "utf-8"
    sys.stderr = io.TextIOWrapper(_messages, encoding, "backslashreplace", write_through=True)
    codecs.register_error(_AS_THEY_CAME, _as_they_came)
    sys.stdout = io.TextIOWrapper(
        io.BufferedWriter(_out), encoding, _AS_THEY_CAME, line_buffering=_out.isatty()
    )


_AS_THEY_CAME = "zembrel-as-they-came"


def _as_they_came(error: UnicodeError) -> tuple[str | bytes, int]:
    """Bytes of a name that is no text as they came; letters that a stream has not as escapes."""
    try:
        return codecs.lookup_error("surrogateescape")(error)
    except UnicodeError:
        return codecs.lookup_error("backslashreplace")(error)


def settle(code: int) -> int:
    """Write what waits to be; the exit code, which says so where that was not possible."""
    try:
        sys.stdout.flush()
    except BrokenPipeError:
        _out.failed = BrokenPipeError()
        return code
    if _out.failed is None:
        return code
    why = (_out.failed.strerror or str(_out.failed)).lower()
    sys.stderr.write(f"error: standard output cannot be written\nwhy:   {why}\ntry:   send it elsewhere\n")
    return RESOURCE
