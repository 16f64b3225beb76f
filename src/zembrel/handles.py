"""Reading bytes at a position, with a bounded number of open files whatever the number of inputs."""

from __future__ import annotations

import os
import threading
from collections import OrderedDict
from collections.abc import Iterable
from pathlib import Path
from typing import Protocol, runtime_checkable

import numpy as np
import numpy.typing as npt

from zembrel.errors import InputError
from zembrel.reading import readings
from zembrel.runstate import Stamp, changed, stamp

MOST_OPEN = 128


def size_on_disk(path: Path) -> int:
    """Bytes of a file, or of all files in a folder."""
    if path.is_dir():
        return sum(inner.stat().st_size for inner in path.rglob("*") if inner.is_file())
    return path.stat().st_size


class ByteSource(Protocol):
    """Bytes that are no file of this machine; picklable, and shown by its name.

    file: what it would be here; nothing is there, nor beside it.
    """

    file: Path

    @property
    def stamp(self) -> Stamp: ...
    def read(self, offset: int, count: int) -> bytes: ...


@runtime_checkable
class ReadsAhead(Protocol):
    """Bytes that come sooner when those that will be read are told at once, as (offset, count)."""

    def ahead(self, ranges: Iterable[tuple[int, int]]) -> None: ...


Readable = Path | ByteSource


class FileHandles:
    """Open file descriptors by path; the one unused longest is closed when there are too many."""

    def __init__(self, most: int = MOST_OPEN) -> None:
        self._most = most
        self._lock = threading.Lock()
        self._open: OrderedDict[Path, int] = OrderedDict()
        self._turns: dict[Path, int] = {}  # the run in which each was last known to be the file of that name
        self._busy: dict[int, int] = {}

    def read(self, path: Readable, offset: int, count: int, due: Stamp | None = None) -> bytes:
        """`count` bytes of `path` from `offset`; fewer at the end of the file.

        Raises InputError if it cannot be read, or its stamp is not the one `due`.
        """
        if not isinstance(path, Path):
            return path.read(offset, count)
        try:
            descriptor = self._take(path)
            try:
                data = os.pread(descriptor, count, offset)
                now = stamp(os.fstat(descriptor)) if due is not None else None
            finally:
                self._give_back(descriptor)
        except OSError as exc:
            raise cannot_read(path, exc) from exc
        if now != due:
            raise changed(path)
        return data

    def _take(self, path: Path) -> int:
        with self._lock:
            if self._turns.get(path) != readings.turn:
                self._let_go_of_another(path, stamp(path.stat()))
                readings.note(path)
                self._turns[path] = readings.turn
            descriptor = self._open.get(path)
            if descriptor is None:
                descriptor = os.open(path, os.O_RDONLY | getattr(os, "O_CLOEXEC", 0))
                self._open[path] = descriptor
            self._open.move_to_end(path)
            self._busy[descriptor] = self._busy.get(descriptor, 0) + 1
            if len(self._open) > self._most:
                self._close_one()
            return descriptor

    def _close_one(self) -> None:
        for path, descriptor in self._open.items():
            if not self._busy.get(descriptor):
                del self._open[path], self._turns[path]
                os.close(descriptor)
                return

    def _let_go_of_another(self, path: Path, now: Stamp) -> None:
        """Close the handle on what stood at `path` before, if it is no longer the file there."""
        descriptor = self._open.get(path)
        if descriptor is not None and stamp(os.fstat(descriptor)) != now:
            del self._open[path], self._turns[path]
            if not self._busy.get(descriptor):
                os.close(descriptor)

    def _give_back(self, descriptor: int) -> None:
        with self._lock:
            self._busy[descriptor] -= 1

    def renew(self, path: Readable) -> Stamp:
        """The stamp of `path` as it is now; a handle on what stood there before is let go.

        Raises InputError.
        """
        if not isinstance(path, Path):
            return path.stamp
        try:
            now = stamp(path.stat())
            with self._lock:
                self._let_go_of_another(path, now)
        except OSError as exc:
            raise cannot_read(path, exc) from exc
        return now


class FileBytes:
    """The bytes of a file, read when they are asked for: a slice is an array of them, (n,).

    Unlike a memory map it counts for no memory, and a file that is cut off meanwhile ends no process: slices
    are shorter then.
    """

    def __init__(self, path: Readable) -> None:
        self._path, self._size = path, file_handles.renew(path).size

    def __len__(self) -> int:
        return self._size

    def __getitem__(self, part: slice) -> npt.NDArray[np.uint8]:
        """Raises InputError if the file cannot be read."""
        first, last, _ = part.indices(self._size)
        return np.frombuffer(file_handles.read(self._path, first, max(last - first, 0)), np.uint8)


def cannot_read(path: Path, cause: OSError) -> InputError:
    """The error for a file that the system does not let us read."""
    why = cause.strerror or str(cause)
    return InputError(
        f"{path} cannot be read", why[:1].lower() + why[1:], "check the path and its permissions"
    )


file_handles = FileHandles()
