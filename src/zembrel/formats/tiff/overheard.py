"""What a C library says on the standard error: its only word for data that it decodes in part."""

from __future__ import annotations

import os
import tempfile
import threading
from collections.abc import Iterator
from contextlib import contextmanager

_lock = threading.Lock()
_STDERR = 2


@contextmanager
def overheard(mark: bytes) -> Iterator[list[str]]:
    """Lines with `mark` that are written to the standard error inside; all others go there afterwards."""
    said: list[str] = []
    with _lock, tempfile.TemporaryFile() as kept:
        before = os.dup(_STDERR)
        os.dup2(kept.fileno(), _STDERR)
        try:
            yield said
        finally:
            os.dup2(before, _STDERR)
            os.close(before)
            kept.seek(0)
            lines = kept.read().splitlines(keepends=True)
            said += [line.decode("utf-8", "replace").strip() for line in lines if mark in line]
            os.write(_STDERR, b"".join(line for line in lines if mark not in line))
